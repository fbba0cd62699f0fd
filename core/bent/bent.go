// Package bent makes archives whose bytes lie, for tests: numbers at the ends of their
// ranges, lengths that overflow, places that lead to themselves, pages of zeros. It
// holds readers to a bound on time and memory for them.
package bent

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime/metrics"
	"strconv"
	"sync/atomic"
	"testing"
	"time"
)

const (
	longest = 2 * time.Second
	aByte   = time.Microsecond // that came in, or went to Decoded
	memory  = 256 << 20        // bytes
)

// each is how many are bent from a seed: 100, or as many as BENT says.
func each() int {
	if n, err := strconv.Atoi(os.Getenv("BENT")); err == nil {
		return n
	}
	return 100
}

// Decoded counts what comes of what is read: a stated expansion takes its time.
var Decoded = &counter{}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}

// Fuzz gives read the seeds, others bent from them, and what the engine makes of all of
// these. mend, if there is one, puts checksums right in place, so that what is behind
// them is reached. Reading ends within 2 s and 1 µs for each byte that comes in or out, and takes no
// more memory at any moment than 256 MiB and what a header may ask for (allowed, in bytes).
func Fuzz(f *testing.F, seeds [][]byte, allowed uint64, mend func(data []byte), read func(t *testing.T, data []byte)) {
	f.Helper()
	random := rand.New(rand.NewPCG(1, 2))
	for _, seed := range seeds {
		f.Add(seed)
		for range each() {
			data, _ := Change(random, seed)
			if mend != nil {
				mend(data)
			}
			f.Add(data)
		}
	}
	go watch()
	f.Fuzz(func(t *testing.T, data []byte) {
		before := inUse()
		peak.Store(0)
		var over string
		for range 2 { // a machine may stand still once
			over = ""
			Decoded.n = 0
			began := time.Now()
			read(t, data)
			bound := longest + aByte*time.Duration(len(data)+int(Decoded.n))
			if took := time.Since(began); took > bound {
				over = fmt.Sprintf("%d bytes, of which %d came, took %s", len(data), Decoded.n, took)
			}
			if over == "" {
				break
			}
		}
		if over != "" {
			t.Error(over)
		}
		if most := max(peak.Load(), inUse()); most > before+memory+allowed {
			t.Errorf("%d bytes took %d bytes of memory", len(data), most-before)
		}
	})
}

// peak is the most memory that was in use since it was zero, as far as watch has seen.
var peak atomic.Uint64

func watch() {
	for {
		if now := inUse(); now > peak.Load() {
			peak.Store(now)
		}
		time.Sleep(time.Millisecond)
	}
}

func inUse() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(sample)
	return sample[0].Value.Uint64()
}

// Change returns a copy of data with one to three changes, and what they are.
func Change(random *rand.Rand, data []byte) (changed []byte, how string) {
	changed = bytes.Clone(data)
	if len(changed) == 0 {
		return changed, "nothing to change"
	}
	for range 1 + random.IntN(3) {
		how += changes[random.IntN(len(changes))](random, changed) + "; "
	}
	return changed, how
}

var changes = []func(*rand.Rand, []byte) string{binaryNumber, binaryNumber, digits, zeros, repeated}

// binaryNumber puts one of 1 to 8 bytes somewhere: the ends of its range, or a place in
// the data, its own among them.
func binaryNumber(random *rand.Rand, data []byte) string {
	width := min(1<<random.IntN(4), len(data))
	at := random.IntN(len(data) - width + 1)
	most := uint64(1)<<(8*width-1)<<1 - 1
	numbers := []uint64{0, 1, most, most - 1, most - 511, most >> 1, most>>1 + 1, 1 << 31, uint64(len(data)),
		uint64(at), uint64(at) / 512, uint64(at) / 2048, uint64(random.IntN(len(data)))}
	n := numbers[random.IntN(len(numbers))]
	var b [8]byte
	if random.IntN(2) == 0 {
		binary.LittleEndian.PutUint64(b[:], n)
		copy(data[at:], b[:width])
	} else {
		binary.BigEndian.PutUint64(b[:], n)
		copy(data[at:], b[8-width:])
	}
	return fmt.Sprintf("%d bytes at %d are the number %d", width, at, n)
}

// digits fills a number in text with its lowest or highest digit, or a sign.
func digits(random *rand.Rand, data []byte) string {
	at := random.IntN(len(data))
	if found := bytes.IndexAny(data[at:], "0123456789"); found >= 0 {
		at += found
	}
	end := at
	for end < len(data) && data[end] >= '0' && data[end] <= '9' {
		end++
	}
	with := "079f-"[random.IntN(5)]
	copy(data[at:end], bytes.Repeat([]byte{with}, end-at))
	return fmt.Sprintf("the digits from %d to %d are all %c", at, end, with)
}

// zeros stand for what a disk has lost: whole sectors.
func zeros(random *rand.Rand, data []byte) string {
	size := 16 << random.IntN(9)
	at := random.IntN(len(data)) / size * size
	end := min(at+size*(1+random.IntN(3)), len(data))
	clear(data[at:end])
	return fmt.Sprintf("zeros from %d to %d", at, end)
}

// repeated puts what stands at one place at another, too.
func repeated(random *rand.Rand, data []byte) string {
	from, to := random.IntN(len(data)), random.IntN(len(data))
	n := copy(data[to:], data[from:min(from+1+random.IntN(600), len(data))])
	return fmt.Sprintf("%d bytes from %d stand at %d", n, from, to)
}
