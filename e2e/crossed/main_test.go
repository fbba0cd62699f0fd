package crossed

import (
	"flag"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	program "widecrate/cli"
	"widecrate/demo/standin"
	"widecrate/e2e/places"
)

// asProgram is a variable of the environment: with it, the tests are the program itself.
const asProgram = "CROSSED_PROGRAM"

func TestMain(m *testing.M) {
	time.Local = time.UTC
	switch {
	case os.Getenv(asProgram) != "":
		os.Exit(program.Program())
	case os.Getenv(asRunner) != "":
		runLines(os.Stdin, os.Stdout)
		os.Exit(0)
	}
	debug.SetGCPercent(400) // many short runs in one process
	os.Setenv("CROSSED", keys[0])
	on := flag.String("on", "", "the file system that cases are tried on: "+strings.Join(places.Kinds, ", "))
	flag.Parse()
	unmount := func() error { return nil }
	if *on != "" {
		place, err := places.Mount(*on)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		root, unmount = place.Dir, place.Unmount
	}
	for i, s := range []*standin.Server{{Folder: root, Tag: `"1"`}, {Folder: root, NoRanges: true, NoLength: true}} {
		address, stop, err := s.Start()
		if err != nil {
			panic(err)
		}
		defer stop()
		servers[i] = strings.TrimSuffix(address, "/")
	}
	if seed := flag.Lookup("rapid.seed"); seed.Value.String() == "0" { // the same cases each time, unless others are asked for
		_ = seed.Value.Set("1")
	}
	if checks := flag.Lookup("rapid.checks"); checks.Value.String() == checks.DefValue { // more are asked for
		_ = checks.Value.Set("20")
	}
	code := m.Run()
	if err := unmount(); err != nil {
		fmt.Println(err)
		code = 1
	}
	os.Exit(code)
}
