package e2e

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two runs into one root at the same time, each held up in the moves that put its
// files there: for every rule none of their files is lost, what was there is only
// replaced where that was asked for, and both tell the truth.
func TestTwoRunsAtOnce(t *testing.T) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("without a way to hold up system calls")
	}
	for _, rule := range []string{"refuse", "skip", "replace", "newer", "number", "fresh"} {
		for round := range 4 {
			dir := t.TempDir()
			a, b := map[string]string{"both": "of a", "d/both": "of a", "a": "a"}, map[string]string{"both": "of b!", "d/both": "of b!", "b": "b"}
			pack(t, filepath.Join(dir, "1/x.zip"), "both", "of a", "d/both", "of a", "a", "a")
			pack(t, filepath.Join(dir, "2/x.zip"), "both", "of b!", "d/both", "of b!", "b", "b")
			put(t, filepath.Join(dir, "out/x/mine"), "mine")
			args := []string{"--into", "out", "--as", "json", "--clash", rule}
			if rule == "fresh" {
				args = []string{"--into", "out", "--as", "json", "--fresh"}
			}
			results := [2]atOnce{}
			done := make(chan bool)
			for i := range results {
				hold := strconv.Itoa(10_000 + 7000*(i^round&1))
				call := append([]string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=renameat2,linkat", "-e", "inject=renameat2,linkat:delay_enter=" + hold,
					program, "extract", filepath.Join(strconv.Itoa(i+1), "x.zip")}, args...)
				go func() {
					results[i].run(dir, strace, call)
					done <- true
				}()
				time.Sleep(time.Duration(round*3) * time.Millisecond)
			}
			<-done
			<-done
			got := tree(t, filepath.Join(dir, "out", "x"))
			delete(got, "d/")
			first, second := results[0], results[1]
			title := rule + ", round " + strconv.Itoa(round) + ": " + first.errors + second.errors
			require.NoError(t, first.err)
			require.NoError(t, second.err)
			switch rule {
			case "fresh": // one of the two, whole
				assert.Equal(t, []int{0, 0}, []int{first.code, second.code}, title)
				if got["both"] == "of a" {
					assert.Equal(t, a, got, title)
				} else {
					assert.Equal(t, b, got, title)
				}
				continue
			case "refuse": // one of the two, and the other says so
				assert.ElementsMatch(t, []int{0, 3}, []int{first.code, second.code}, title)
				winner := a
				if second.code == 0 {
					winner = b
				}
				winner["mine"] = "mine"
				assert.Equal(t, winner, got, title)
				continue
			}
			assert.Equal(t, []int{0, 0}, []int{first.code, second.code}, title)
			assert.Equal(t, "mine a b", got["mine"]+" "+got["a"]+" "+got["b"], title)
			for _, path := range []string{"both", "d/both"} {
				actions := []string{first.actions[path], second.actions[path]}
				switch rule {
				case "number":
					assert.ElementsMatch(t, []string{"of a", "of b!"}, []string{got[path], got[path+"-2"]}, title)
				case "replace":
					assert.ElementsMatch(t, []string{"added", "replaced"}, actions, title)
					last := map[bool]string{true: "of b!", false: "of a"}[actions[1] == "replaced"]
					assert.Equal(t, last, got[path], title)
				default:
					assert.ElementsMatch(t, []string{"added", "skipped"}, actions, title)
					there := map[bool]string{true: "of a", false: "of b!"}[actions[0] == "added"]
					assert.Equal(t, there, got[path], title)
				}
			}
		}
	}
}

// atOnce is what a run says.
type atOnce struct {
	code    int
	actions map[string]string // by path below the own folder
	errors  string
	err     error
}

func (a *atOnce) run(dir, name string, args []string) {
	cmd := exec.Command(name, args...)
	var out, errs bytes.Buffer
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &errs
	if err := cmd.Run(); cmd.ProcessState == nil {
		a.err = err
		return
	}
	a.code, a.errors, a.actions = cmd.ProcessState.ExitCode(), errs.String(), map[string]string{}
	for decoder := json.NewDecoder(&out); ; {
		var line struct{ Kind, Entry, Action string }
		if decoder.Decode(&line) != nil {
			return
		}
		a.actions[line.Entry] = line.Action
	}
}
