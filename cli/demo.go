package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/show"
	"widecrate/core/fault"
	"widecrate/demo"
	"widecrate/demo/standin"
)

// step is one command of the full example. {address} in it is that of a web server
// with the demo data.
type step struct {
	why  string
	args []string
	code int // that it ends with
}

const address = "{address}/"

var example = []step{
	{"What does a daily archive hold?", []string{"inspect", "readings/gull-ness-2026-05-01.zip"}, 0},
	{"Unpack the tables of all of them, each into its own folder. One archive is damaged: it is named, and the others are unpacked.",
		[]string{"extract", "readings", "--into", "landing", "--ext", "csv", "--no-clutter"}, 7},
	{"A bundle holds the archives of many days. Unpack through it.",
		[]string{"extract", "bundles", "--into", "may", "--nested", "--ext", "csv,json", "--no-clutter"}, 0},
	{"Gather the charts of all in one folder, numbered.",
		[]string{"extract", "readings", "--into", "pictures", "--layout", "shared", "--flatten", "--ext", "png", "--rename", "chart-{nnn}{ext}"}, 0},
	{"Names with spaces and brackets are literal. What would happen?",
		[]string{"extract", "corrections/osk bay [v1].zip", "--into", "landing", "--dry-run"}, 0},
	{"Two archives hold the same file name: nothing is overwritten unless it is asked for.",
		[]string{"extract", "corrections", "--into", "merged", "--layout", "shared"}, 3},
	{"Keep both.", []string{"extract", "corrections", "--into", "merged", "--layout", "shared", "--clash", "number", "-v"}, 0},
	{"A survey comes in parts, and one set lacks one. What is there?", []string{"parts", "scan", "survey"}, 4},
	{"Any part stands for its set; nothing is joined on the disk.", []string{"extract", "survey/harbour.z02", "--into", "grids"}, 0},
	{"Twelve numbered archives belong in one folder.",
		[]string{"extract", "instruments", "--into", "suite", "--series", "suite-{n}.tar"}, 0},
	{"The image of a disc is an archive, too.", []string{"extract", "discs/osk-bay-2025.iso", "--into", "disc", "--pick", "levels/**"}, 0},
	{"A locked archive opens with one of the passwords in a file.",
		[]string{"extract", "locked/gauges.zip", "--into", "landing", "--password-file", "locked/password.txt"}, 0},
	{"What would the tables weigh, packed in several ways?", []string{"weigh", "landing", "--try", "zip,zip@best,tar.gz,tar.zst,tar.xz"}, 0},
	{"Pack what was unpacked, without the folder itself, and read it back.",
		[]string{"create", "hand-over.zip", "landing", "--top", "drop", "--read-back"}, 0},
	{"Change it: what stays is copied as it is packed.",
		[]string{"edit", "hand-over.zip", "--text", "notes.txt=All gauges report.", "--remove", "keys.csv"}, 0},
	{"And rewrite it, with no files in between.", []string{"convert", "hand-over.zip", "--to", "tar.zst", "--into", "packed"}, 0},
	{"Three archives have come in. The first night unpacks them, and keeps a receipt.",
		[]string{"create", "inbox/{name}.zip", "landing/osk-bay-2026-05-01", "landing/osk-bay-2026-05-02", "landing/osk-bay-2026-05-03", "--each", "-q"}, 0},
	{"", []string{"extract", "inbox", "--into", "nights", "--clash", "replace", "--receipt", "nights.jsonl", "--skip-done"}, 0},
	{"Two more come, and one of the first is sent again, changed.",
		[]string{"create", "inbox/{name}.zip", "landing/pell-point-2026-05-01", "landing/pell-point-2026-05-02", "--each", "-q"}, 0},
	{"", []string{"edit", "inbox/osk-bay-2026-05-02.zip", "--text", "notes.txt=The gauge was cleaned.", "-q"}, 0},
	{"The second night does only what is new, and makes a page to look at.",
		[]string{"extract", "inbox", "--into", "nights", "--clash", "replace", "--receipt", "nights.jsonl", "--skip-done", "--report", "nights.html"}, 0},
	{"Is everything still as it was delivered?", []string{"verify", "--against", "nights.jsonl"}, 0},
	{"A job file does a month of the network: tables, survey and suite, an archive of them, and a check.", []string{"run", "month.yaml"}, 0},
	{"The second night does nothing, and says so.", []string{"run", "month.yaml", "--report", "month.html"}, 0},
	{"A month as one archive …", []string{"create", "month.zip", "landing", "--method", "store"}, 0},
	{"… lies at an address. One table of it is wanted: the rest stays where it is.",
		[]string{"extract", address + "month.zip", "--into", "fetched", "--entry", "landing/osk-bay-2026-05-03/levels.csv"}, 0},
	{"A folder on the server is a folder: the bundles in it, and of those the calibrations.",
		[]string{"extract", address + "bundles/", "--into", "fetched", "--nested", "--pick", "calibration.json", "-q"}, 0},
}

func newDemo(s *streams) *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Make demo data and run a full example on it",
		Long: `demo makes the archives of Tidewatch, a made-up network of tide gauges, in a
folder (default: tidewatch), and runs a full example. The results are in its
folder example; the data itself stays as it is. What an earlier demo made is
made again.`,
		Example: "  widecrate demo\n  widecrate demo /tmp/tidewatch",
		Args:    takes(0, 1, "folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "tidewatch"
			if len(args) > 0 {
				dir = args[0]
			}
			return s.demo(cmd, dir)
		},
	}
}

func (s *streams) demo(cmd *cobra.Command, dir string) error {
	full, err := filepath.Abs(filepath.Join(dir, demo.Example))
	if err != nil {
		return fault.Writing(dir, err)
	}
	for _, dir := range []string{dir, full} {
		if err := demo.Make(dir); err != nil {
			return err
		}
	}
	program, err := os.Executable()
	if err != nil {
		return fmt.Errorf("this program does not find itself: %w", err)
	}
	s.Out.Printf("Made the Tidewatch archives in %s. The example works on a second set of them, in %s.\n", filepath.Dir(full), full)
	server := &standin.Server{Folder: full, Index: true}
	at, stop, err := server.Start()
	if err != nil {
		return fmt.Errorf("the example needs a port of this machine: %w", err)
	}
	defer stop()
	for _, st := range example {
		remote := false
		args := slices.Clone(st.args)
		for i, arg := range args {
			if strings.HasPrefix(arg, address) {
				args[i], remote = at+strings.TrimPrefix(arg, address), true
			}
		}
		if st.why != "" {
			s.Out.Printf("\n%s\n", s.Out.Faint("# "+st.why))
		}
		s.Out.Printf("%s\n", s.Out.Strong("$ widecrate "+quoteArgs(args)))
		if err := s.Out.Flush(); err != nil {
			return err
		}
		run := exec.CommandContext(cmd.Context(), program, args...)
		run.Dir, run.Stdout, run.Stderr = full, os.Stdout, os.Stdout
		err := run.Run()
		if cmd.Context().Err() != nil {
			return cmd.Context().Err()
		}
		if exit, ok := errors.AsType[*exec.ExitError](err); err != nil && !ok {
			return err
		} else if ok && exit.ExitCode() != st.code {
			return fmt.Errorf("the example ended with exit code %d instead of %d", exit.ExitCode(), st.code)
		}
		if remote {
			s.Out.Printf("%s\n", s.Out.Faint(fmt.Sprintf("(%s over the line, in %s)", show.Size(server.Bytes.Load()), show.Count(int(server.Requests.Load()), "request"))))
		}
		if st.code != 0 {
			s.Out.Printf("%s\n", s.Out.Faint(fmt.Sprintf("(exit code %d)", st.code)))
		}
	}
	s.Out.Printf("\nThe results are in %s:\n", full)
	for _, place := range []string{"landing", "may", "pictures", "merged", "grids", "suite", "hand-over.zip", "fetched", "nights", "nights.html", "month", "month.html"} {
		s.Out.Printf("  %s\n", filepath.Join(dir, demo.Example, place))
	}
	return nil
}

// quoteArgs writes arguments the way they are typed.
func quoteArgs(args []string) string {
	typed := make([]string, len(args))
	for i, arg := range args {
		typed[i] = arg
		if strings.ContainsAny(arg, " []{}*") {
			typed[i] = `"` + arg + `"`
		}
	}
	return strings.Join(typed, " ")
}
