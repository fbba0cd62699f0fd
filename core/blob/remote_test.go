package blob

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/remote"
	"widecrate/core/systemtest"
	"widecrate/demo/standin"
)

// noiseAt opens a file of noise at an address.
func noiseAt(t *testing.T, s *standin.Server, size int, head int64) (*Remote, []byte) {
	t.Helper()
	s.Folder = t.TempDir()
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{byte(size)}).Read(data)
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "f"), data, 0o666))
	address, stop, err := s.Start()
	require.NoError(t, err)
	t.Cleanup(stop)
	c := remote.New(remote.Options{Pause: time.Millisecond})
	a, err := c.Address(address + "f")
	require.NoError(t, err)
	opened, err := a.Open(t.Context(), head)
	require.NoError(t, err)
	r := NewRemote(t.Context(), opened, head)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	return r, data
}

// However it is read, and whatever was foreseen, the bytes are those of the file.
func TestRemote(t *testing.T) {
	const size = 60 << 20 // more than is kept
	for name, c := range map[string]struct {
		server   *standin.Server
		foreseen []Range
		requests int64
	}{
		"nothing foreseen":  {&standin.Server{}, nil, 0},
		"all foreseen":      {&standin.Server{}, []Range{{0, size}}, 0},
		"a little foreseen": {&standin.Server{}, []Range{{30 << 20, 31 << 20}, {5, 700}, {20 << 20, 25 << 20}}, 0},
		"connections break": {&standin.Server{Faults: []standin.Fault{standin.Cut(3 << 20)}}, []Range{{0, 40 << 20}}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			r, data := noiseAt(t, c.server, size, 5000)
			r.Foresee(c.foreseen)
			var readers sync.WaitGroup
			for n := range 4 {
				readers.Go(func() {
					random := rand.New(rand.NewPCG(uint64(n), 1))
					for range systemtest.Rounds(10, 10, 40) {
						at := random.Int64N(size)
						length := min(random.Int64N(2<<20), size-at)
						for p := make([]byte, 100_000); length > 0; {
							k, err := r.ReadAt(p[:min(length, 100_000)], at)
							if err != nil || !bytes.Equal(p[:k], data[at:at+int64(k)]) {
								t.Errorf("at %d: %v", at, err)
								return
							}
							at, length = at+int64(k), length-int64(k)
						}
					}
				})
			}
			readers.Wait()
			same, err := Equal(io.NewSectionReader(r, 0, r.Size()), bytes.NewReader(data))
			require.NoError(t, err)
			assert.True(t, same)
			n, err := r.ReadAt(make([]byte, 10), size-3)
			assert.Equal(t, 3, n)
			assert.Equal(t, io.EOF, err)
		})
	}
}

// What is asked for is not much more than what is read.
func TestRemoteRequests(t *testing.T) {
	const size = 50 << 20
	read := func(r *Remote, ranges ...Range) {
		p := make([]byte, size)
		for _, want := range ranges {
			_, err := io.ReadFull(io.NewSectionReader(r, want.From, want.To-want.From), p[:want.To-want.From])
			require.NoError(t, err)
		}
	}
	var spread []Range
	for at := int64(100_000); at < size-200_000; at += size / 100 {
		spread = append(spread, Range{at, at + 20_000})
	}
	for name, c := range map[string]struct {
		head     int64
		foreseen []Range
		ranges   []Range
		requests int64
		extra    int64 // bytes
	}{
		"all of it at once":       {0, nil, []Range{{0, size}}, 1, 0},
		"all of it":               {48 << 10, []Range{{0, size}}, []Range{{0, size}}, 16, 0},
		"in order, not foreseen":  {48 << 10, nil, []Range{{0, size}}, 24, 0},
		"one place":               {1000, nil, []Range{{size - 500, size}}, 2, 17_000},
		"spread over it":          {1000, spread, spread, 8, 40_000},
		"close to each other":     {1000, []Range{{10_000, 11_000}, {12_000, 20_000}}, []Range{{10_000, 11_000}, {12_000, 20_000}}, 2, 3000},
		"read once, kept in mind": {1000, nil, []Range{{20_000, 30_000}, {20_000, 30_000}, {25_000, 26_000}}, 2, 17_000},
	} {
		t.Run(name, func(t *testing.T) {
			s := &standin.Server{}
			r, _ := noiseAt(t, s, size, c.head)
			r.Foresee(c.foreseen)
			read(r, c.ranges...)
			require.NoError(t, r.Close())
			assert.LessOrEqual(t, s.Requests.Load(), c.requests)
			needed := int64(0)
			for _, want := range merge(c.ranges) {
				needed += want.To - want.From
			}
			assert.LessOrEqual(t, s.Bytes.Load(), needed+c.extra)
		})
	}
}

// More blobs than connections are read at once: those that are ahead let others go
// first. Cancelling ends it all.
func TestRemoteContention(t *testing.T) {
	s := &standin.Server{}
	first, data := noiseAt(t, s, 40<<20, 1000)
	address := first.resource.Address
	ctx, cancel := context.WithCancel(t.Context())
	var all []*Remote
	for range 9 {
		opened, err := address.Open(ctx, 0)
		require.NoError(t, err)
		all = append(all, NewRemote(ctx, opened, 0))
	}
	p := make([]byte, 50_000)
	for at := int64(0); at < int64(len(data)); at += 7 << 20 {
		for _, r := range append(all, first) {
			n, err := r.ReadAt(p, at)
			require.NoError(t, err)
			require.True(t, bytes.Equal(p[:n], data[at:at+int64(n)]))
		}
	}
	cancel()
	_, err := all[0].ReadAt(p, 12<<20)
	assert.ErrorIs(t, err, context.Canceled)
	for _, r := range all {
		require.NoError(t, r.Close())
		_, err := r.ReadAt(p, 0)
		assert.Error(t, err)
	}
}

// A flow is read at any place until it is settled, then forwards.
func TestFlow(t *testing.T) {
	data := make([]byte, 300_000)
	rand.NewChaCha8([32]byte{}).Read(data)
	f := NewFlow(io.NopCloser(bytes.NewReader(data)))
	at := func(from, to int) error {
		p := make([]byte, to-from)
		n, err := f.ReadAt(p, int64(from))
		assert.Equal(t, data[min(from, len(data)):min(from+n, len(data))], p[:n])
		return err
	}
	require.NoError(t, at(100_000, 100_100))
	require.NoError(t, at(0, 10))
	f.Settle()
	require.NoError(t, at(5, 70_000))
	require.NoError(t, at(150_000, 260_000))
	require.ErrorIs(t, at(0, 10), fault.Unreadable)
	require.Equal(t, io.EOF, at(299_000, 301_000))
	assert.EqualValues(t, len(data), f.Size())
	require.Equal(t, io.EOF, at(400_000, 400_001))

	f = NewFlow(io.NopCloser(bytes.NewReader(data)))
	require.NoError(t, at(7, 100))
	f.Settle()
	got, err := io.ReadAll(f.Rest())
	require.NoError(t, err)
	assert.Equal(t, data, got)
}

// Where a round trip takes longer than what is left out, as between the headers of a tar, all is read in a few requests;
// where it does not, what is left out stays where it is.
func TestRemoteLeaps(t *testing.T) {
	const size = 64 << 20
	for name, c := range map[string]struct {
		delay    time.Duration
		leap     int64
		requests int64 // at most
		bytes    int64 // at most
	}{
		"small ones": {20 * time.Millisecond, 100 << 10, 60, size + size/4},
		"large ones": {0, 16 << 20, 10, 16 << 20},
	} {
		s := &standin.Server{Delay: c.delay}
		r, data := noiseAt(t, s, size, 5000)
		for at := int64(0); at < size; at += c.leap {
			var p [512]byte
			_, err := r.ReadAt(p[:], at)
			require.NoError(t, err)
			require.Equal(t, data[at:at+512], p[:])
		}
		assert.LessOrEqual(t, s.Requests.Load(), c.requests, name)
		assert.LessOrEqual(t, s.Bytes.Load(), c.bytes, name)
	}
}
