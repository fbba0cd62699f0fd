// Command bench measures the built program and prints each figure beside its
// floor: the shortest loop that does the same job with the same codec library,
// everything already in memory. Both are timed in turn on the same data, and
// the median of their ratios is the figure; absolute times say little on a
// machine that others use too.
//
//	go run -C bench . [--dir DIR] [--only NAME,…] [--runs N]
//	go run -C bench . --fs ext4,xfs,btrfs [--only NAME,…] [--runs N]
//	go run -C bench . --chart growth.png|frontier.png
//	go run -C bench . --shares
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// bench is where the data lies and what runs on it.
type bench struct {
	dir, program string
	runs         int
	chart        string // the file that it is drawn into; empty: none
}

// A figure is one measurement; limit is what it must not exceed, in unit.
type figure struct {
	name, what string
	measure    func(*bench) result
	limit      float64
	unit       string
}

// result is the value of a figure and the two medians that it comes from.
type result struct {
	value, floor float64
	ours         time.Duration
	memory       int64 // peak, in bytes
}

var figures = []figure{
	{"text", "decoder alone, source text", decoding(sourceText, 0), 1 / 2.0, "× library"},
	{"csv", "decoder alone, CSV", decoding(levels, 0), 1 / 2.0, "× library"},
	{"code", "decoder alone, machine code", decoding(machineCode, 0), 1 / 2.0, "× library"},
	{"text4", "decoder alone, source text in streams of 4 KiB", decoding(sourceText, 4096), 1 / 1.8, "× library"},
	{"csv4", "decoder alone, CSV in streams of 4 KiB", decoding(levels, 4096), 1 / 1.8, "× library"},
	{"code4", "decoder alone, machine code in streams of 4 KiB", decoding(machineCode, 4096), 1 / 1.8, "× library"},
	{"lzma", "decoder alone, LZMA2, source text", decodingStream(sourceText, lzma2), 1 / 1.8, "× library"},
	{"lzmacsv", "decoder alone, LZMA2, CSV", decodingStream(levels, lzma2), 1 / 2.2, "× library"},
	{"lzmaexe", "decoder alone, LZMA2, machine code", decodingStream(machineCode, lzma2), 1 / 2.2, "× library"},
	{"bzip2", "decoder alone, bzip2, source text, all cores", decodingStream(sourceText, bunzip2), 0.6, "× library"},
	{"bzip2csv", "decoder alone, bzip2, CSV, all cores", decodingStream(levels, bunzip2), 0.6, "× library"},
	{"lzw", "decoder alone, .Z, source text", decodingStream(sourceText, compressed), 1 / 1.5, "× plain loop"},
	{"lzwexe", "decoder alone, .Z, machine code", decodingStream(machineCode, compressed), 1 / 1.5, "× plain loop"},
	{"xz1", "verify of a tar.xz of 88 MB, one block", native("lzma", "lzma.compress(DATA)", "lzma.decompress(d)"), 1.1, "× native"},
	{"xzn", "the same, several blocks", native("lzma", "", "lzma.decompress(d)"), 0.6, "× native"},
	{"bz2", "verify of a tar.bz2 of it", native("bz2", "bz2.compress(DATA)", "bz2.decompress(d)"), 0.6, "× native"},
	{"gz", "verify of a tar.gz of it", native("gzip", "gzip.compress(DATA,6)", "gzip.decompress(d)"), 0.5, "× native"},
	{"size6", "deflate, default level: the worst of eight kinds", making(6, 6, 1, byLargest), 1, "× native size"},
	{"time6", "the same, time on one core", making(6, 6, 1, byTime), 1 / 1.5, "× native"},
	{"cores6", "the same, all cores", making(6, 6, 0, byTime), 1 / 2.5, "× native"},
	{"size8", "deflate, level 8: all of them", making(8, 9, 1, bySize), 0.985, "× native maximum"},
	{"time8", "the same, time on one core", making(8, 9, 1, byTime), 0.35, "× native maximum"},
	{"size9", "deflate, best level: all of them", making(9, 9, 1, bySize), 0.96, "× native maximum"},
	{"time9", "the same, time on one core", making(9, 9, 1, byTime), 1, "× native maximum"},
	{"many", "200 archives × 100 files of 4 KiB, own layout", manySmall("own"), 0.85, "× hand loop"},
	{"shared", "the same, shared layout", manySmall("shared"), 1.1, "× hand loop"},
	{"tiny", "5,000 archives of one 20 KiB file, shared layout", manyTiny, 1.1, "× hand loop"},
	{"far", "10 archives × 100 files, 10 ms for each call", fromAfar("own"), 1, "× calls of the hand loop"},
	{"farmany", "the same, shared layout", fromAfar("shared"), 1, "× calls of the hand loop"},
	{"large", "one archive of 300 MB, mixed files", oneLarge, 0.75, "× hand loop"},
	{"single", "one archive of one entry of 150 MB", oneHuge(1), 0.75, "× hand loop"},
	{"pair", "one archive of two such entries", oneHuge(2), 0.75, "× hand loop"},
	{"verify", "verify of a ZIP of 1 GB, all cores", checking, 1 / 1.9, "× decoder on one core"},
	{"verify2", "verify of 200 tar.gz of 5 MB, two workers", twoWorkers("verify"), 0.55, "× one worker"},
	{"inspect2", "inspect of them, two workers", twoWorkers("inspect"), 0.55, "× one worker"},
	{"targz", "tar.gz of large files, 200 MB", tarOf("gzip", false), 0.75, "× hand loop"},
	{"tarzst", "tar.zst of large files, 200 MB", tarOf("zstd", false), 1.3, "× hand loop"},
	{"tar", "tar of 20,000 small files", tarOf("store", true), 1.6, "× hand loop"},
	{"aes", "4 entries of 50 MB of text, AES-256", lockedText, 1.15, "× unlocked"},
	{"keys", "500 candidates on one AES entry", candidatesAES, 1.1, "× 500 derivations"},
	{"words", "10,000 candidates on a traditional entry", candidatesTraditional, 2, "s"},
	{"one", "one entry out of 100,000", oneEntry, 1.3, "× inspect --as names"},
	{"set", "300 MB archive in parts of 20 MB", inParts(false), 1.05, "× the same in one file"},
	{"setsums", "the same, with a list of sums", inParts(true), 1.1, "× the same in one file"},
	{"split", "parts split of 400 MB into parts of 30 MB", splitting, 1.2, "× copy and hash"},
	{"join", "parts join of the same", joining(false), 1.05, "× copy"},
	{"sums", "the same, with a list of sums", joining(true), 1.2, "× copy and hash"},
	{"zcut", "parts split of the 300 MB archive as split ZIP", splittingZIP, 1.2, "× copy and hash"},
	{"scan", "parts scan of 10,000 files", scanning, 1, "s"},
	{"pack", "create of a ZIP of 20,000 files of 20 KiB, level fast", packMany(20_000, 20<<10, 1), 1.2, "× hand loop"},
	{"small", "create of a ZIP of 100,000 files of 1 KiB", packMany(100_000, 1<<10, 6), 1.8, "× hand loop"},
	{"pzip", "create of a ZIP of one file of 1 GB, level fast", packLarge("zip"), 1.2, "× hand loop"},
	{"ptgz", "create of a tar.gz of the same", packLarge("tar.gz"), 1.2, "× hand loop"},
	{"pzst", "create of a tar.zst of the same", packLarge("tar.zst"), 1.15, "× hand loop"},
	{"pxz", "create of a tar.xz, all cores against one", packXZ, 1 / 1.7, "× one core"},
	{"edit", "edit of one entry in a ZIP of 1 GB", editing, 1.3, "× copy"},
	{"edits", "edit of one entry in 1,000 ZIPs of 200 KiB", editingMany, 1.1, "× replacing each"},
	{"huge", "one entry of 5 GiB, highly compressible", huge, 64, "MiB"},
	{"names", "1,000,000 entries, inspect --as names", millionAs("names"), 0.6, "s"},
	{"json", "1,000,000 entries, inspect --as json", millionAs("json"), 2, "s"},
	{"table", "1,000,000 entries, inspect --as table", millionAs("table"), 4, "s"},
	{"disc", "100,000 files in an image, inspect --as names", listImage, 0.3, "s"},
	{"image", "an image of 20,000 small files", extractImage, 1.1, "× the same in a tar"},
	{"hash", "a ZIP of 300 MB of mixed files, with a receipt", hashing(largeMixed), 1.25, "× without"},
	{"hashes", "200 archives × 100 files of 4 KiB, with a receipt", hashing(manyOfMany), 1.25, "× without"},
	{"undo", "undo of 100,000 files of 100 archives", undoing, 1.3, "× removing them with their hashes"},
	{"done", "100,000 archives that are done", doneBefore(false), 2, "s"},
	{"donemem", "memory for that", doneBefore(true), 200, "MiB"},
	{"first", "1,000,000 archives, the first night", growth(firstNight), 1.2, "× ten times 100,000"},
	{"second", "the second night, all of them done", growth(secondNight), 1.2, "× ten times 100,000"},
	{"share", "a thousandth share of them", growth(share), 1.2, "× ten times 100,000"},
	{"web1", "1 MB out of a ZIP of 2 GB at an address", remoteEntries("day-05000.dat", requests), 5, "requests"},
	{"web1b", "the same, bytes beyond entry and directory", remoteEntries("day-05000.dat", beyondInKiB), 64, "KiB"},
	{"web100", "100 entries spread over it", remoteEntries("*.csv", requests), 40, "requests"},
	{"webzip", "a ZIP of 300 MB at an address", remoteWhole("survey.zip", 0, mixed), 1.15, "× on disk"},
	{"webslow", "the same, 20 ms before each answer", remoteWhole("survey.zip", 20*time.Millisecond, mixed), 1.5, "× on disk"},
	{"webtgz", "a tar.gz of 200 MB at an address", remoteWhole("survey.tar.gz", 0, packedTar), 1.1, "× on disk"},
	{"webmem", "memory for the ZIP of 300 MB", remoteMemory("survey.zip", mixed), 64, "MiB"},
	{"webmany", "1,000 archives of 20 KiB at addresses", remoteSmall(0), 1 / 0.9, "× plain client"},
	{"weblate", "the same, 20 ms before each answer", remoteSmall(20 * time.Millisecond), 1 / 0.9, "× plain client"},
	{"linezip", "a ZIP of 300 MB over HTTP, 50 MB/s and 20 ms", lineWhole(overHTTP, "survey.zip", mixed), 1.05, "× plain download"},
	{"linetgz", "a tar.gz over HTTP on that line", lineWhole(overHTTP, "survey.tar.gz", packedTar), 1.05, "× plain download"},
	{"linelist", "listing a plain tar of 200 MB over HTTP on that line", lineList(overHTTP), 1.3, "× plain download"},
	{"linemany", "a folder of 1,000 archives over HTTP on that line", lineSmall(overHTTP), 1.05, "× plain download"},
	{"sftpzip", "the ZIP over SFTP", lineWhole(overSFTP, "survey.zip", mixed), 1.05, "× plain download"},
	{"sftptgz", "the tar.gz over SFTP", lineWhole(overSFTP, "survey.tar.gz", packedTar), 1.05, "× plain download"},
	{"sftplist", "listing the plain tar over SFTP", lineList(overSFTP), 1.3, "× plain download"},
	{"sftpmany", "the folder over SFTP", lineSmall(overSFTP), 1.05, "× plain download"},
	{"start", "start to --help", start, 0.005, "s"},
}

func main() {
	b := &bench{}
	only := flag.String("only", "", "measure only the figures of these names, separated by commas")
	flag.StringVar(&b.dir, "dir", memory(), "where the data lies; memory-backed storage gives the steadiest figures")
	flag.IntVar(&b.runs, "runs", 7, "how many pairs of runs the median is taken of")
	disks := flag.String("fs", "", "measure on these file systems, made and mounted in memory: ext4, xfs, btrfs, separated by commas")
	shares := flag.Bool("shares", false, "measure nothing, but simulate how even the shares of many machines are")
	flag.StringVar(&b.chart, "chart", "", "measure nothing else, but draw a chart into this file: growth (time against count) or frontier (size against time), .png or .svg")
	flag.Parse()
	if *shares {
		simulateShares()
		return
	}
	if err := b.run(*only, *disks); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// memory is a memory-backed folder where the system has one.
func memory() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return os.TempDir()
}

// charts are what can be drawn, by the name of the file.
var charts = map[string]func(b *bench, path string){"growth": (*bench).drawGrowth, "frontier": (*bench).drawFrontier}

// chosen are the figures of some names; no names: all.
func chosen(names string) (list []figure, err error) {
	if names == "" {
		return figures, nil
	}
	for name := range strings.SplitSeq(names, ",") {
		at := slices.IndexFunc(figures, func(f figure) bool { return f.name == name })
		if at < 0 {
			return nil, fmt.Errorf("there is no figure %q; the names are in the first column of what it prints, and in bench/main.go", name)
		}
		list = append(list, figures[at])
	}
	return list, nil
}

func (b *bench) run(only, disks string) (err error) {
	list, err := chosen(only)
	if err != nil {
		return err
	}
	name := filepath.Base(b.chart)
	draw, known := charts[strings.TrimSuffix(name, filepath.Ext(name))]
	if b.chart != "" && !known {
		return fmt.Errorf("--chart %s: the name of the file says what is drawn: growth or frontier", b.chart)
	}
	if b.dir, err = os.MkdirTemp(b.dir, "widecrate-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	defer func() { // a measurement that cannot go on panics
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	if b.program, err = filepath.Abs(filepath.Join(b.dir, "widecrate")); err != nil {
		return err
	}
	build := exec.Command("go", "build", "-C", "..", "-trimpath", "-ldflags=-s -w", "-o", b.program, "./cmd/widecrate")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return err
	}
	if b.chart != "" {
		draw(b, b.chart)
		return nil
	}
	fmt.Printf("%-8s  %-56s  %9s  %9s  %8s  %s\n", "name", "what", "ours", "floor", "memory", "figure (limit)")
	if disks != "" {
		return b.onDisks(disks, list)
	}
	b.measure(list)
	return nil
}

// measure prints figures.
func (b *bench) measure(list []figure) {
	for _, f := range list {
		r := f.measure(b)
		if r.value == skipped {
			fmt.Printf("%-8s  %-56s  skipped: this machine does not have what it needs\n", f.name, f.what)
			continue
		}
		mark := ""
		if r.value > f.limit {
			mark = "  over"
		}
		floor := ""
		if r.floor > 0 {
			floor = fmt.Sprintf("%.3f s", r.floor)
		}
		fmt.Printf("%-8s  %-56s  %7.3f s  %9s  %4d MiB  %.3f %s (%.3g)%s\n",
			f.name, f.what, r.ours.Seconds(), floor, r.memory>>20, r.value, f.unit, f.limit, mark)
	}
}

// time runs the built program and returns its wall time.
func (b *bench) time(args ...string) time.Duration {
	started := time.Now()
	b.start(args...).finish()
	return time.Since(started)
}

// warmUp runs the built program untimed and returns its peak memory.
func (b *bench) warmUp(args ...string) int64 {
	p := b.start(args...)
	done := make(chan int64)
	go func() { done <- watch(p.cmd.Process.Pid) }()
	p.finish()
	return <-done
}

// process is a run of the built program.
type process struct {
	cmd *exec.Cmd
	out *os.File
}

func (b *bench) start(args ...string) process {
	out, err := os.Create(filepath.Join(b.dir, "output"))
	must(err)
	cmd := exec.Command(b.program, args...)
	cmd.Stdout, cmd.Stderr = out, os.Stderr
	must(cmd.Start())
	return process{cmd, out}
}

func (p process) finish() {
	must(p.cmd.Wait())
	must(p.out.Close())
}

// watch reads the peak memory of a process until it ends. What the system
// accounts to it afterwards would include the process that it was forked from.
// It is 0 on systems without /proc.
func watch(pid int) (peak int64) {
	for {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		_, rest, found := strings.Cut(string(status), "VmHWM:")
		if err != nil || !found {
			return peak
		}
		var kib int64
		fmt.Sscan(rest, &kib)
		peak = max(peak, kib<<10)
		time.Sleep(2 * time.Millisecond)
	}
}

// pair times the program and its floor in turn, each from a clean state.
func (b *bench) pair(clean func(), floor func(), args ...string) result {
	var r result
	var ratios, floors []float64
	var ours []time.Duration
	clean()
	r.memory = b.warmUp(args...)
	for range b.runs {
		clean()
		started := time.Now()
		floor()
		base := time.Since(started)
		clean()
		took := b.time(args...)
		ratios, floors, ours = append(ratios, took.Seconds()/base.Seconds()), append(floors, base.Seconds()), append(ours, took)
	}
	r.value, r.floor, r.ours = median(ratios), median(floors), median(ours)
	clean()
	return r
}

// alone times the program where there is no floor but a limit in seconds.
func (b *bench) alone(args ...string) result {
	var r result
	var ours []time.Duration
	r.memory = b.warmUp(args...)
	for range b.runs {
		ours = append(ours, b.time(args...))
	}
	r.ours = median(ours)
	r.value = r.ours.Seconds()
	return r
}

func median[T float64 | time.Duration](values []T) T {
	slices.Sort(values)
	return values[len(values)/2]
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}
