package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What was left out, not done or not found is said, and the exit code says it too.
func TestNothingIsSilent(t *testing.T) {
	for name, story := range map[string]night{
		"parts that fit evenly":      {"x: 1234567890", "0 parts split x --part-size 5", "!x.003", "x: ", "0 parts join x.001 --into y", "y = 1234567890"},
		"an empty part at the end":   {"x.001: 12345", "x.002: 67890", "x.003: ", "0 parts join x.001 --into y", "y = 1234567890"},
		"spaces in lists":            {"a.zip: x.csv=1 y.json=2", "0 extract a.zip --ext csv,␣json --into o", "o/a/y.json", "d/x: 1", "0 weigh d --try zip,␣tar.gz"},
		"spaces in a job file":       {"a.zip: x.csv=1 y.json=2", "j.yaml: widecrate: 1\\njobs:\\n- name: one\\n  extract: {sources: a.zip, ext: 'csv, json', into: o}\\n", "0 run j.yaml", "o/a/y.json"},
		"an empty entry list":        {"a.zip: x=1", "l: ", "2 extract a.zip --entry-list l --into o", "!o", "l: \\n\\n", "2 extract a.zip --entry-list l --into o"},
		"an empty list of sources":   {"l: \\n", "2 extract --source-list l --into o"},
		"an empty list of pairs":     {"l: \\n", "2 extract --pairs l"},
		"an empty list of passwords": {"a.zip: x=1", "l: \\n", "2 extract a.zip --password-file l --into o"},
		"nothing compared":           {"a.zip: x=1", "b.zip: x=1", "6 compare a.zip b.zip --ext csv", "6 compare a.zip b.zip --peel 1"},
		"two on one path":            {"a.zip: d/x=1 e/x=2", "b.zip: d/x=1", "3 compare a.zip b.zip --peel 1", "? d/x", "? e/x"},
		"hard links compared":        {"a.tar: x=1 y=>x", "d/x: 1", "d/y: 1", "0 compare a.tar d"},
		"nothing for something":      {"d/x: 1", "n.zip: y/", "0 extract n.zip --layout shared --into e", "0 create a.zip d", "6 create a.zip e --clash replace", "? replaced by nothing", "6 create a.zip e --clash replace --dry-run", "6 edit a.zip --remove d/*", "? no file would be left", "0 verify a.zip", "? 1 file", "0 create b.zip e", "0 create b.zip e --clash replace", "0 create c.zip d --part-size 100", "0 edit c.zip.001 --move d/x=d/y"},
		"a folder that is not there": {"in/n: 1", "d/x: 1", "0 create a.zip d", "j.yaml: widecrate: 1\njobs:\n- name: one\n  extract: {sources: in, into: o}\n- name: two\n  create: {archive: a.zip, sources: [o], clash: replace}\n- name: three\n  extract: {sources: o, into: p}\n", "8 run j.yaml", "0 verify a.zip", "? 1 file"},
		"nothing kept is not some":   {"a.zip: x.csv=1 y=2", "6 extract a.zip --into o --pick *.tsv --after remove --even-if-partial", "a.zip", "? nothing of it was kept", "o/a/x.csv: 5", "0 extract a.zip --into o --clash skip --pick x.csv --after remove --even-if-partial", "a.zip", "0 extract a.zip --into p --pick x.csv --after remove --even-if-partial", "!a.zip"},
		"a file put, and removed":    {"d/x: 1", "e/y: 2", "0 create a.zip d --put e/y=z --after remove", "!e/y", "!d/x", "0 extract a.zip --layout shared --into o", "o/z = 2"},
		"given twice":                {"a.zip: x=1", "2 extract a.zip --into a --into b", "? given twice", "!a", "!b", "2 extract a.zip --after remove --after move=b", "a.zip", "2 extract a.zip --layout shared --own-name x --into a", "? own-name", "2 extract a.zip --fresh --clash skip --into a", "? fresh", "0 extract a.zip --pick x --pick y --into c", "c/a/x"},
		"lists and pages of shares":  {"in/a.zip: x=1", "in/b.zip: y=1", "2 extract in --into o --shard 0/2 --report p.html", "? {shard}", "!o", "0 convert in --to tar --into o --shard 0/2 --sums o/s --report p-{shard}.html", "p-0-of-2.html", "0 convert in --to tar --into o --shard 1/2 --sums o/s", "0 verify o/a.tar o/b.tar --check-sums o/s"},
		"a list that stays":          {"a.zip: x=1", "0 convert a.zip --to tar --into o --sums o/s", "8 convert none.zip --to tar --into o --sums o/s", "6 convert a.zip --to tar --into p --pick *.q --sums o/s", "0 verify o/a.tar --check-sums o/s"},
		"names that are nowhere":     {"a.zip: x=1", "b.zip: x=1", "6 extract a.zip --entry p --entry q --into o", "? p", "? q"},
		"nowhere beside a failure":   {"a.zip: x=1", "bad.zip: nothing", "7 extract a.zip bad.zip --entry p --entry q --into o", "? p", "? q", "8 extract a.zip none.zip --entry p --into o", "? p", "7 inspect a.zip bad.zip --entry p", "7 verify bad.zip --entry p"},
		"below the folder alone":     {"in/s/a.zip: x=1", "0 extract in --into o", "? --recursive"},
		"what is not taken":          {"in/a.zip: x=1", "in/b.abc: 1", "in/c.abc: 1", "in/d: 1", "in/SHA256SUMS: ", "0 extract in --into o", "? not taken: 2 .abc, 1 without extension", "0 verify in --as json", `? "not_taken":{"":1,".abc":2}`, "7 extract in --into p --others refuse", "? in/b.abc is not called like an archive", "p/a/x = 1"},
		"not settled":                {"in/a.zip: x=1", "0 extract in --into o --settled 1h", "? 1 archive", "0 extract in --into o --settled 1h -q", "? 1 archive"},
		"a receipt of nothing":       {"in/x: 1", "0 extract in --into o --receipt r", "r", "0 verify --against r"},
		"unsafe":                     {"x.tar: ../x=1", "9 verify x.tar", "? ../x", "0 inspect x.tar", "? unsafe"},
		"needs":                      {"a.zip: x=1", "2 extract a.zip --nested-depth 2", "2 extract a.zip --allow-gaps", "2 extract a.zip --series-count 2", "2 extract a.zip --null-in", "2 extract a.zip --null-out", "2 extract a.zip --even-if-partial"},
		"numbers of hidden files":    {"a.zip: .env=1 x.tar.gz=1", "o/.env: 2", "o/x.tar.gz: 2", "0 extract a.zip --into o --layout shared --clash number", "o/.env-2", "o/x-2.tar.gz"},
		"a dry run of create":        {"d/x: 1", "0 create a.zip d --dry-run --as json", `? "dry_run":true`, "a.zip: y=1", "3 create a.zip d --dry-run", "0 create gone/b.zip d --dry-run", "!gone"},
		"an empty page":              {"a.zip: x=1", "2 extract a.zip --into - --report p.html"},
		"a hard link alone":          {"a.tar: x=1 y=>x", "0 extract a.tar --entry y --into o", "? 1 B written"},
		"clutter alone":              {"a.zip: .DS_Store=1", "6 extract a.zip --no-clutter --after remove --into o", "a.zip"},
		"convert of an address":      {"2 convert http://127.0.0.1:1/a.zip --to tar", "2 edit http://127.0.0.1:1/a.zip --remove x", "10 create http://127.0.0.1:1/a.zip --text a=b --retries 0", "2 extract --source-list http://127.0.0.1:1/l"},
		"convert to standard output": {"a.zip: x=1", "2 convert a.zip --to tar --into -"},
		"nested in convert":          {"a.zip: x=1", "2 convert a.zip --to tar --nested"},
		"no archive by a pattern":    {"in/a.zip: x=1", "0 extract in --archives nope* --into o", "? nope*"},
		"a dry run over folders":     {"in/a.zip: empty/", "in/b.tar: empty/", "0 extract in --into p --layout shared --dry-run", "0 extract in --into o --layout shared", "in/c.zip: empty=1", "3 extract in --into q --layout shared --dry-run", "3 extract in --into q --layout shared", "a.zip: d/x=1", "b.zip: d=1", "c.zip: d/x/y=1", "3 extract a.zip b.zip --into r --layout shared --dry-run", "3 extract a.zip c.zip --into r --layout shared --dry-run", "3 extract a.zip b.zip c.zip --into r --layout shared", "0 extract a.zip --into r --layout shared", "3 extract b.zip --into r --layout shared"},
		"a dry run that counts":      {"d/x: 1", "0 create {name}.zip d --each --dry-run", "? would be packed"},
		"copies of hard links":       {"x.tar.gz: a=1 b=>a c=>a", "9 convert x.tar.gz --to zip --max-total 2", "0 convert x.tar.gz --to zip --max-total 3"},
		"a series in convert":        {"in/x-1.zip: a=1", "in/x-2.zip: b=2 a=1", "0 convert in --series x-{n}.zip --to tar --into o", "0 extract o/x.tar --into p", "p/x/a = 1", "p/x/b = 2", "in/x-3.zip: a=3", "3 convert in --series x-{n}.zip --to tar --into q"},
		"limits of other commands":   {"a.zip: x=12345", "b.tar: x=12345", "9 compare a.zip b.tar --max-total 4", "0 compare a.zip b.tar --max-total 5", "0 compare a.zip b.tar --max-total 0 --max-ratio 0", "x.tar.gz: x=12345", "9 edit x.tar.gz --text a=b --max-total 4", "0 edit x.tar.gz --text a=b --max-entries 0", "9 extract a.zip --into o --max-ratio 0 --max-total 1"},
		"deep job files":             {"j.yaml: widecrate: 1\njobs: " + strings.Repeat("[", 70) + strings.Repeat("]", 70), "2 run j.yaml", "? deep"},
		"jobs without end":           {"j.yaml: widecrate: 1\njobs:\n- name: x\n  repeat: {" + repeated("abcdef", 30) + "}\n  extract: {sources: a.zip, into: o}\n", "2 run j.yaml", "? more than 100000"},

		"hard links that clash": {"x.tar: a=1 b=>a", "o/a: 333", "0 extract x.tar --clash skip --layout shared --into o", "o/a = 333", "o/b = 1"},
		"an edit again":         {"a.zip: x=1", "y: 2", "0 edit a.zip --remove old* --add y", "? old*", "0 extract a.zip --into o", "o/a/y = 2"},
		"depth":                 {"c.zip: x.txt=1", "0 create b.zip c.zip", "0 create a.zip b.zip", "6 extract a.zip --nested --nested-depth 1 --ext txt --into o", "? deeper archive"},
	} {
		t.Run(name, story.play)
	}
}

// A run that halts delivers all before the first failure and reports that, with any number of
// workers, and names what it did not come to.
func TestHalt(t *testing.T) {
	dir := t.TempDir()
	const archives, bad = 24, 9
	for i := range archives {
		path := filepath.Join(dir, fmt.Sprintf("in/%02d.zip", i))
		pack(t, path, fmt.Sprintf("%02d", i), strings.Repeat("x", 1000*((i*7)%5)))
		if i >= bad && i%3 == 0 {
			put(t, path, "nothing")
		}
	}
	for _, workers := range []string{"1", "2", "8"} {
		for _, how := range []string{"--layout shared", "--nested", "--layout auto"} {
			into := filepath.Join(dir, workers+how)
			out, errs, code := run(t, dir, append(strings.Fields("extract in --halt --as json "+how), "--into", into, "--workers", workers)...)
			assert.Equal(t, 7, code, errs)
			assert.Contains(t, errs, fmt.Sprintf("%d archives were not taken", archives-bad-1))
			lines := linesOf(t, out, "archive")
			for i, line := range lines {
				assert.Equal(t, filepath.Join("in", fmt.Sprintf("%02d.zip", i)), line["archive"])
				assert.Equal(t, i == bad, line["failure"] != nil, line)
				assert.Equal(t, i > bad, line["skipped"] == "halted", line)
			}
			assert.Len(t, lines, archives)
			files := 0
			for path := range tree(t, into) {
				if !strings.HasSuffix(path, "/") {
					files++
				}
			}
			assert.Equal(t, bad, files)
		}
	}
}

// What could not be written is named beside other failures, and counts.
func TestTwoFailures(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil || runtime.GOOS == "windows" {
		t.Skip("nothing is always full here")
	}
	defer full.Close()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "bad.zip"), "nothing")
	cmd := exec.Command(program, "verify", "bad.zip", "--as", "names")
	var errs strings.Builder
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, full, &errs
	_ = cmd.Run() // how it ends, its state says
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	for _, said := range []string{"bad.zip", "standard output", "no space left"} {
		assert.Contains(t, errs.String(), said)
	}
}

// repeated are variables of a job file, each with so many values.
func repeated(names string, values int) string {
	var list []string
	for i := range values {
		list = append(list, fmt.Sprint(i))
	}
	var all []string
	for _, name := range names {
		all = append(all, fmt.Sprintf("%c: [%s]", name, strings.Join(list, ", ")))
	}
	return strings.Join(all, ", ")
}
