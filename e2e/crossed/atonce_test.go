package crossed

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	program "widecrate/cli"
	"widecrate/demo/standin"
	"widecrate/demo/standin/dav"
)

// asRunner is a variable of the environment: with it, the tests are a process that runs the command
// lines of its standard input, one after the other.
const asRunner = "CROSSED_RUNNER"

// ran is what a command line came to.
type ran struct {
	Code int
	Errs string
}

func runLines(in io.Reader, out io.Writer) {
	for lines := json.NewDecoder(in); ; {
		var args []string
		if lines.Decode(&args) != nil {
			return
		}
		var errs bytes.Buffer
		code := program.Main(args, io.Discard, &errs)
		text, _ := json.Marshal(ran{code, errs.String()}) // of a number and a text
		fmt.Fprintf(out, "%s\n", text)
	}
}

// A runner is such a process.
type runner struct {
	in  io.Writer
	out *bufio.Scanner
}

// startRunner starts one. Where there is a way to, its calls that make folders are held up, so that
// others come in between.
func startRunner(t *testing.T) *runner {
	cmd := exec.Command(os.Args[0])
	if strace, err := exec.LookPath("strace"); err == nil {
		cmd = exec.Command(strace, "-f", "-qq", "-o", os.DevNull, "--seccomp-bpf", "-e", "trace=mkdirat",
			"-e", "inject=mkdirat:delay_enter=300:delay_exit=300:when=1+2", os.Args[0])
	}
	cmd.Env = append(os.Environ(), asRunner+"=1")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		in.Close()
		assert.NoError(t, cmd.Wait())
	})
	return &runner{in, bufio.NewScanner(out)}
}

func (r *runner) start(t *testing.T, args []string) {
	text, err := json.Marshal(args)
	require.NoError(t, err)
	_, err = r.in.Write(append(text, '\n'))
	require.NoError(t, err)
}

func (r *runner) end(t *testing.T) (was ran) {
	require.True(t, r.out.Scan(), "the process ended")
	require.NoError(t, json.Unmarshal(r.out.Bytes(), &was))
	return was
}

var rounds = flag.Int("rounds", 5, "how often processes make the same folders at once")

const processes, archivesEach = 4, 8

// packEach puts archives into a folder for each process, all in one folder of the same name below
// it. The last is damaged, if one is to be.
func packEach(t *testing.T, dir string, damaged bool) {
	for p := range processes {
		for k := range archivesEach {
			a := &Archive{Name: fmt.Sprintf("%d/s/t/a%d%d.tar.gz", p, p, k), Entries: []Entry{{Path: "x.csv", Data: "1", Time: when}, {Path: "d/y.csv", Data: "2", Time: when}}}
			if damaged && k == archivesEach-1 {
				a.Damage = Junk
			}
			require.NoError(t, a.Write(dir))
		}
	}
}

// Folders that are missing are made by four processes with eight workers each at the same moment:
// destinations, folders that sources go to, those of receipts and of what is replaced, on a disk and
// at servers. Each run comes to what it comes to alone.
func TestFoldersAtOnce(t *testing.T) {
	web := httptest.NewServer(&dav.Server{Folder: root})
	defer web.Close()
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	defer server.Stop()
	trusted := " --identity " + server.Identity + " --known-hosts " + server.KnownHosts
	var runners [processes]*runner
	for p := range runners {
		runners[p] = startRunner(t)
	}
	for name, c := range map[string]struct {
		words  string // with IN for the folder of the process, OUT for that of the round, and P for the number of the process
		code   int
		makes  int  // files of all processes, below OUT
		remade bool // IN is made again for each round
	}{
		"destination":        {"extract IN --recursive --into OUT/a/b", 0, 2 * processes * archivesEach, false},
		"destination, merge": {"extract IN --recursive --into OUT/a/b --rename P-{archive}-{name} --layout shared", 0, 2 * processes * archivesEach, false},
		"where sources go": {"extract IN --recursive --into OUT/a/b --after move=OUT/done/a --failed move=OUT/failed/a --receipt OUT/receipts/a/P.jsonl",
			7, processes * (2*(archivesEach-1) + archivesEach + 2), true},
		"what is replaced":   {"edit IN --recursive --text n.txt=1 --replaced OUT/replaced/a", 0, processes * archivesEach, true},
		"new archives":       {"convert IN --recursive --to zip --into OUT/a/b --receipt OUT/r/one.jsonl", 0, processes*archivesEach + 1, false},
		"at an SFTP server":  {"convert IN --recursive --to zip --into SFTP/OUT/a/b/ --receipt SFTP/OUT/r/s/P.jsonl" + trusted, 0, processes * (archivesEach + 1), false},
		"at a WebDAV server": {"convert IN --recursive --to zip --into DAV/OUT/a/b/ --receipt DAV/OUT/r/s/P.jsonl", 0, processes * (archivesEach + 1), false},
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.ToSlash(newDir(t))
			in := filepath.Join(dir, "in")
			packEach(t, in, c.remade && c.code != 0)
			for round := range *rounds {
				out := dir + "/" + strconv.Itoa(round)
				for p, r := range runners {
					words := strings.NewReplacer("IN", in+"/"+strconv.Itoa(p), "SFTP/OUT", server.Address+"/"+out,
						"DAV/OUT", web.URL+strings.TrimPrefix(out, filepath.ToSlash(root)), "OUT", out, "P", strconv.Itoa(p)).Replace(c.words + " -q --workers 8")
					r.start(t, strings.Fields(words))
				}
				for _, r := range runners {
					was := r.end(t)
					require.Equal(t, c.code, was.Code, was.Errs)
				}
				tree, err := Look(out)
				require.NoError(t, err)
				files := 0
				for _, thing := range tree {
					if thing.Kind == File {
						files++
					}
				}
				require.Equal(t, c.makes, files, "%v", sorted(tree))
				require.NoError(t, os.RemoveAll(out))
				if c.remade {
					require.NoError(t, os.RemoveAll(in))
					packEach(t, in, c.code != 0)
				}
			}
		})
	}
}
