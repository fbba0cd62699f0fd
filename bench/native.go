package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// native compares verify of a tar that was packed in some way with the native library of
// that way, which Python calls, on one core and with everything in memory. It is skipped
// where there is no Python.
func native(module, pack, unpack string) func(*bench) result {
	return func(b *bench) result {
		python, err := exec.LookPath("python3")
		if err != nil {
			return result{value: skipped}
		}
		dir := filepath.Join(b.dir, "native")
		must(os.MkdirAll(filepath.Join(dir, "files"), 0o777))
		defer os.RemoveAll(dir)
		r := rand.New(rand.NewPCG(10, 10))
		must(os.WriteFile(filepath.Join(dir, "files", "words.txt"), words(r, 40_000_000), 0o666))
		must(os.WriteFile(filepath.Join(dir, "files", "levels.csv"), table(r, 40_000_000), 0o666))
		must(os.WriteFile(filepath.Join(dir, "files", "code.bin"), machineCode(b), 0o666))
		plain, packed := filepath.Join(dir, "x.tar"), filepath.Join(dir, "y.tar."+module)
		if pack == "" { // by us
			packed = filepath.Join(dir, "y.tar.xz")
			b.time("create", packed, filepath.Join(dir, "files"), "-q")
		} else {
			b.time("create", plain, filepath.Join(dir, "files"), "-q")
			b.python(python, fmt.Sprintf("import %s; open(%q,'wb').write(%s)", module, packed, strings.ReplaceAll(pack, "DATA", fmt.Sprintf("open(%q,'rb').read()", plain))))
		}
		theirs := func() time.Duration {
			took, err := time.ParseDuration(b.python(python, fmt.Sprintf("import %s,time; d=open(%q,'rb').read(); t=time.time(); %s; print('%%.6fs'%%(time.time()-t))", module, packed, unpack)))
			must(err)
			return took
		}
		res := b.versus(theirs, func() time.Duration { return b.time("verify", packed, "-q") })
		res.memory = b.warmUp("verify", packed, "-q")
		return res
	}
}

// skipped is the value of what could not be measured.
const skipped = -1

func (b *bench) python(program, text string) string {
	cmd := exec.Command(program, "-c", text)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	must(err)
	return strings.TrimSpace(string(out))
}
