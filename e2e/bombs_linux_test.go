package e2e

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/codec"
	"widecrate/core/systemtest"
)

// packedAs compresses data.
func packedAs(t *testing.T, method string, data io.Reader) string {
	t.Helper()
	m, known := codec.ByName(method)
	require.True(t, known)
	var b bytes.Buffer
	w, err := m.Encode(&b, codec.EncodeOptions{})
	require.NoError(t, err)
	_, err = io.Copy(w, data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

// zeroes are so many.
func zeroes(n int64) io.Reader { return io.LimitReader(zeroReader{}, n) }

// tarHeader is that of an entry of a type.
func tarHeader(name string, kind byte, size int) string {
	h := make([]byte, 512)
	for at, text := range map[int]string{0: name, 100: "0000644\x00", 124: fmt.Sprintf("%011o\x00", size), 136: "00000000000\x00", 148: "        ", 156: string(kind), 257: "ustar\x0000"} {
		copy(h[at:], text)
	}
	sum := 0
	for _, b := range h {
		sum += int(b)
	}
	copy(h[148:], fmt.Sprintf("%06o\x00 ", sum))
	return string(h)
}

// xzIndex is a stream without blocks, of which the index claims as many as there is room for.
func xzIndex(size int) string {
	header := []byte("\xfd7zXZ\x00\x00\x01")
	header = binary.LittleEndian.AppendUint32(header, crc32.ChecksumIEEE(header[6:]))
	index := binary.AppendUvarint([]byte{0}, uint64(size/2))
	for len(index) < size {
		index = append(index, 5, 0)
	}
	index = append(index, make([]byte, -len(index)&3)...)
	index = binary.LittleEndian.AppendUint32(index, crc32.ChecksumIEEE(index))
	footer := binary.LittleEndian.AppendUint32(nil, uint32(len(index)/4-1))
	footer = append(footer, 0, 1)
	footer = append(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(footer)), append(footer, 'Y', 'Z')...)
	return string(header) + string(index) + string(footer)
}

// arNames is a library with a table of names that do not end.
func arNames() string {
	header := func(name string, size int) string {
		return fmt.Sprintf("%-16s%-12s%-6s%-6s%-8s%-10d`\n", name, "0", "0", "0", "644", size)
	}
	table := strings.Repeat("n", 1<<15)
	return "!<arch>\n" + header("//", len(table)) + table + strings.Repeat(header("/0", 0), 500)
}

// zipEnds is a ZIP with thousands of end records, each of which promises a chain of headers that
// all of them share.
func zipEnds() string {
	central := make([]byte, 46)
	copy(central, "PK\x01\x02")
	chain := strings.Repeat(string(central), 6000)
	var b strings.Builder
	b.WriteString(chain)
	for b.Len() < 540<<10 {
		end := make([]byte, 22)
		copy(end, "PK\x05\x06")
		binary.LittleEndian.PutUint16(end[10:], 6000)
		b.Write(end)
	}
	return b.String()
}

// peakOf is the most memory that a process has had, in KiB, and whether it is there.
func peakOf(pid int) (kib int, there bool) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if _, rest, found := strings.Cut(string(text), "VmHWM:"); found {
		_, _ = fmt.Sscan(rest, &kib) // a process that has just ended has none
	}
	return kib, err == nil
}

// What is small and asks for much ends soon, in little memory, whatever is asked of it.
func TestBombs(t *testing.T) {
	systemtest.Long(t, "what unpacks to much")
	dir := t.TempDir()
	tarOne := tarHeader("a", '0', 0)
	cpio := "070701" + strings.Repeat("00000000", 11) + "0000000b" + "00000000" + "TRAILER!!!\x00" + "\x00\x00\x00"
	local := make([]byte, 31)
	copy(local, "PK\x03\x04")
	binary.LittleEndian.PutUint16(local[6:], 8) // a descriptor follows
	binary.LittleEndian.PutUint16(local[8:], 8)
	binary.LittleEndian.PutUint16(local[26:], 1)
	local[30] = 'n'
	for name, c := range map[string]struct {
		data  string
		codes []int // that are right
		more  string
	}{
		"end.tar.bz2":    {packedAs(t, codec.Bzip2, io.MultiReader(strings.NewReader(tarOne), zeroes(80<<20))), []int{9}, ""},
		"end.cpio.bz2":   {packedAs(t, codec.Bzip2, io.MultiReader(strings.NewReader(cpio), zeroes(80<<20))), []int{9}, ""},
		"names.tar.bz2":  {packedAs(t, codec.Bzip2, strings.NewReader(strings.Repeat(tarHeader("././@LongLink", 'L', 1<<20)+strings.Repeat("n", 1<<20)+tarOne, 20))), []int{9}, ""},
		"skipped.tar.gz": {packedAs(t, codec.Gzip, io.MultiReader(strings.NewReader(tarHeader("big", '0', 80<<20)), zeroes(80<<20+1024))), []int{9}, " --ext csv --max-total 1k"},
		"index.xz":       {xzIndex(40 << 20), []int{7, 9}, ""},
		"padding.xz":     {packedAs(t, codec.XZ, strings.NewReader("x")) + strings.Repeat("\x00", 64<<20), []int{0}, ""},
		"names.a":        {arNames(), []int{9}, ""},
		"ends.zip":       {zipEnds(), []int{7, 9}, ""},
		"salvage.zip":    {strings.Repeat(string(local)+"\x01\x00\x00\xff\xff", 20_000), []int{7, 9}, " --salvage"},
		"size.tar":       {tarHeader("p", 'x', 33) + "33 size=9223372036854775807\n" + strings.Repeat("\x00", 512-28) + tarOne + strings.Repeat("\x00", 1024), []int{7}, ""},
		"size.tar.gz":    {packedAs(t, codec.Gzip, strings.NewReader(tarHeader("p", 'x', 28)+"28 size=9223372036854775807\n"+strings.Repeat("\x00", 512-28)+tarOne+strings.Repeat("\x00", 1024))), []int{7}, ""},
		"zeros.xz":       {packedAs(t, codec.XZ, strings.NewReader("x"))[:12] + strings.Repeat("\x00", 56), []int{7}, ""},
	} {
		put(t, filepath.Join(dir, name), c.data)
		for _, command := range []string{"extract --into " + filepath.Join(dir, "out-"+name), "inspect", "verify"} {
			if c.more != "" && !strings.HasPrefix(command, "extract") {
				continue
			}
			cmd := exec.Command(program, strings.Fields(command+" "+name+c.more)...)
			cmd.Dir = dir
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Start())
			stuck := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
			done := make(chan int)
			go func() {
				peak := 0
				for tick := time.NewTicker(2 * time.Millisecond); ; <-tick.C {
					now, there := peakOf(cmd.Process.Pid)
					if peak = max(peak, now); !there {
						tick.Stop()
						done <- peak
						return
					}
				}
			}()
			_ = cmd.Wait() // the exit code says the rest
			stuck.Stop()
			peak := <-done
			assert.Contains(t, c.codes, cmd.ProcessState.ExitCode(), "%s %s: %.300s", command, name, &out)
			assert.Less(t, peak, 400<<10, "%s %s, in KiB", command, name)
			t.Logf("%-12s %-16s %3d %8s %7d KiB", strings.Fields(command)[0], name, cmd.ProcessState.ExitCode(), cmd.ProcessState.UserTime().Round(time.Millisecond), peak)
		}
	}
}
