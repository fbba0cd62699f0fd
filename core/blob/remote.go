package blob

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"sync"

	"widecrate/core/fault"
	"widecrate/core/remote"
)

// How a remote blob is read. Several are asked for in one request as long as they
// are few and small.
const (
	chunk        = 64 << 10 // is kept, and forgotten, as one
	firstStep    = 16 << 10 // of what nobody foresaw; doubled as long as it is read on
	segment      = 4 << 20  // of one request
	mostSkipped  = 64 << 10 // that is read as well where nobody foresaw it
	window       = 1 << 20  // that a request may run ahead of its readers in any case
	mostRanges   = 16       // of one request
	mostRequests = 4        // at a time
)

// A Remote is what lies at an address whose server has ranges. What is read is
// fetched when it is needed, or ahead of that where it was foreseen or is read in
// order, and kept for a while. It may be used on several goroutines.
type Remote struct {
	resource *remote.Resource
	ctx      context.Context
	cancel   context.CancelFunc
	running  sync.WaitGroup
	unlisten func()

	mu       sync.Mutex
	changed  sync.Cond
	chunks   []*kept // by place
	unread   int64   // bytes of them that nobody has read
	clock    int64
	fetches  []*fetching
	foreseen []Range // in the order in which they will be read, not asked for yet
	next     int64   // where the last fetch ends that nobody foresaw,
	step     int64   // and how long it was
	begun    int64   // requests for what was foreseen, up to mostRequests
	astray   bool    // what was foreseen is not what is read
	leaps    int64   // forward in a row, past what nobody foresaw,
	leapt    int64   // and how many bytes they left out
	onward   bool    // all of those is read as well
	err      error
}

// kept are bytes that came.
type kept struct {
	at   int64
	data []byte
	read int       // so many of them were
	used int64     // the latest time
	by   *fetching // that brought them
}

// fetching is a request under way.
type fetching struct {
	left    []Range
	last    *kept   // to which the next bytes are added
	unread  int64   // bytes that it brought
	awaited []int64 // places that readers wait for
}

// NewRemote reads a resource with ranges, until ctx is cancelled. The blob closes
// the resource. Of what it was opened with, so many bytes are read first; see remote.Address.Open.
func NewRemote(ctx context.Context, resource *remote.Resource, head int64) *Remote {
	r := &Remote{resource: resource, next: -1}
	r.ctx, r.cancel = context.WithCancel(ctx)
	r.changed.L = &r.mu
	wake := func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.changed.Broadcast()
	}
	context.AfterFunc(r.ctx, wake)
	r.unlisten = resource.Host.OnContention(wake)
	r.mu.Lock()
	defer r.mu.Unlock()
	first := Range{0, min(cmp.Or(head, resource.Size), resource.Size)}
	if head < 0 {
		first = Range{max(0, resource.Size+head), resource.Size}
	}
	r.begin([]Range{first})
	return r
}

// Size is in bytes.
func (r *Remote) Size() int64 { return r.resource.Size }

// Files has the address with its identity.
func (r *Remote) Files() []File {
	return []File{RemoteFile(r.resource)}
}

// ReadAt reads what has come, and waits for the rest. What cannot be fetched is of
// kind fault.Unreadable.
func (r *Remote) ReadAt(p []byte, offset int64) (n int, err error) {
	short := error(nil)
	if left := r.Size() - offset; int64(len(p)) > left {
		if left <= 0 {
			return 0, io.EOF
		}
		p, short = p[:left], io.EOF
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.onward {
		r.goOn(offset)
		r.ahead()
	}
	for n < len(p) {
		if m := r.copy(p[n:], offset+int64(n)); m > 0 {
			n += m
			continue
		}
		if err := cmp.Or(r.err, r.ctx.Err()); err != nil {
			return n, err
		}
		at := offset + int64(n)
		f := r.coming(at)
		if f == nil {
			f = r.begin(r.need(at, int64(len(p)-n)))
		}
		f.awaited = append(f.awaited, at)
		r.changed.Broadcast()
		r.changed.Wait()
		i := slices.Index(f.awaited, at)
		f.awaited = slices.Delete(f.awaited, i, i+1)
	}
	r.ahead()
	return n, short
}

// find returns the index of the first chunk that ends behind a place.
func (r *Remote) find(at int64) int {
	i, _ := slices.BinarySearchFunc(r.chunks, at, func(k *kept, at int64) int { return cmp.Compare(k.at+int64(len(k.data)), at+1) })
	return i
}

// copy copies from the chunk at a place; 0: there is none.
func (r *Remote) copy(p []byte, at int64) int {
	i := r.find(at)
	if i == len(r.chunks) || r.chunks[i].at > at {
		return 0
	}
	k := r.chunks[i]
	n := copy(p, k.data[at-k.at:])
	if read := int(at-k.at) + n; read > k.read {
		was := k.by.unread
		r.unread -= int64(read - k.read)
		k.by.unread -= int64(read - k.read)
		k.read = read
		if was >= window/2 && k.by.unread < window/2 { // the reader may be waiting for room
			r.changed.Broadcast()
		}
	}
	r.clock++
	k.used = r.clock
	return n
}

// most is how many bytes are kept that nobody has read.
func (r *Remote) most() int64 { return r.resource.Share() }

// coming is a request that will soon bring what is at a place; nil: none will.
func (r *Remote) coming(at int64) *fetching {
	for _, f := range r.fetches {
		before := int64(0)
		for _, want := range f.left {
			if want.From <= at && at < want.To {
				if before+at-want.From <= segment {
					return f
				}
				// It is far off: that request ends where this one begins.
				break
			}
			before += want.To - want.From
		}
	}
	return nil
}

// need says what to ask for to read n bytes at a place: those that were foreseen
// with it, or as much more as it is read in order.
func (r *Remote) need(at, n int64) []Range {
	for i, want := range r.foreseen {
		if want.From <= at && at < want.To {
			rest := slices.Clone(r.foreseen[i:])
			rest[0].From = at
			r.foreseen = r.foreseen[:i]
			if want.From < at {
				r.foreseen = append(r.foreseen, Range{want.From, at})
			}
			batch, left := cut(rest, segment)
			r.foreseen = append(r.foreseen, left...)
			return batch
		}
	}
	switch ahead := at - r.next; {
	case r.next >= 0 && ahead >= 0 && ahead <= min(mostSkipped, r.resource.Host.Gap()):
		r.step = min(2*r.step, segment)
	case r.next < 0 || ahead < 0:
		r.step, r.leaps, r.leapt, r.onward = firstStep, 0, 0, false
	default:
		r.leap(ahead)
	}
	to := min(at+max(n, r.step), r.Size())
	if i := r.find(at); i < len(r.chunks) {
		to = min(to, max(r.chunks[i].at, at+1))
	}
	r.next = to
	return []Range{{at, to}}
}

// How many leaps in a row are enough to see whether it would take less time to read on, and how much is read to find out
// how fast bytes come.
const (
	fewLeaps = 4
	trial    = 256 << 10
)

// leap decides how much is read after a leap past so many bytes, as from one header of a tar to the next: all, as long as a
// round trip takes longer than what is left out.
func (r *Remote) leap(past int64) {
	r.leaps, r.leapt = r.leaps+1, r.leapt+past
	r.step = firstStep
	if r.leaps < fewLeaps {
		return
	}
	switch meanwhile := r.resource.Host.Meanwhile(); {
	case meanwhile == 0:
		r.step = trial
	case past > meanwhile:
		r.onward, r.leaps, r.leapt = false, 0, 0
		r.foreseen = slices.DeleteFunc(r.foreseen, func(want Range) bool { return want.To <= r.next+past })
	case r.leapt/r.leaps <= meanwhile:
		r.step, r.onward = segment, true
	}
}

// goOn takes what lies before a place for read, as who reads on leaves it out, and foresees what comes after.
func (r *Remote) goOn(at int64) {
	for _, k := range r.chunks {
		if k.at+int64(len(k.data)) > at {
			break
		}
		unread := int64(len(k.data) - k.read)
		r.unread, k.by.unread, k.read = r.unread-unread, k.by.unread-unread, len(k.data)
	}
	for r.next < r.Size() && r.next >= at && r.next-at < 2*segment {
		to := min(r.next+segment, r.Size())
		r.foreseen = append(r.foreseen, Range{r.next, to})
		r.next = to
	}
}

// begin starts a request. Others end where it begins.
func (r *Remote) begin(ranges []Range) *fetching {
	f := &fetching{left: subtract(ranges, r.has())}
	for _, other := range r.fetches {
		other.left = subtract(other.left, ranges)
	}
	r.fetches = append(r.fetches, f)
	r.running.Go(func() {
		asked := make([]remote.Range, len(ranges))
		for i, want := range ranges {
			asked[i] = remote.Range(want)
		}
		err := fault.Guard(func() error {
			return r.resource.Fetch(r.ctx, asked, func(at int64, p []byte) error { return r.take(f, at, p) })
		})
		r.mu.Lock()
		defer r.mu.Unlock()
		r.fetches = slices.DeleteFunc(r.fetches, func(other *fetching) bool { return other == f })
		f.last = nil
		if err != nil && err != errEnough && r.err == nil {
			r.err = err
		}
		r.ahead()
		r.changed.Broadcast()
	})
	return f
}

// errEnough ends a request.
var errEnough = errors.New("enough")

// take keeps bytes that came. It waits as long as enough of them are unread, and
// nobody waits for more.
func (r *Remote) take(f *fetching, at int64, p []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	end := at + int64(len(p))
	for _, want := range f.left {
		if from, to := max(want.From, at), min(want.To, end); from < to {
			r.keep(f, from, p[from-at:to-at])
		}
	}
	f.left = subtract(f.left, []Range{{at, end}})
	r.changed.Broadcast()
	if len(f.left) == 0 {
		return errEnough
	}
	for r.unread >= r.most() && f.unread >= window && !f.isAwaited() && r.ctx.Err() == nil {
		if r.resource.Host.Contended() { // others have a better use for the connection
			r.foreseen = append(f.left, r.foreseen...)
			f.left = nil
			return errEnough
		}
		r.changed.Wait()
	}
	return r.ctx.Err()
}

// isAwaited reports whether somebody waits for what the request has yet to bring.
func (f *fetching) isAwaited() bool {
	return slices.ContainsFunc(f.awaited, func(at int64) bool {
		return slices.ContainsFunc(f.left, func(want Range) bool { return want.From <= at && at < want.To })
	})
}

// keep adds bytes to the chunks, and forgets those that were not used for the
// longest time.
func (r *Remote) keep(f *fetching, at int64, p []byte) {
	for len(p) > 0 {
		k := f.last
		if k == nil || k.at+int64(len(k.data)) != at || len(k.data) == chunk {
			k = &kept{at: at, data: buffers.Get().(*[chunk]byte)[:0], by: f}
			f.last = k
			r.chunks = slices.Insert(r.chunks, r.find(at), k)
			r.clock++
			k.used = r.clock
		}
		n := min(chunk-len(k.data), len(p))
		k.data = append(k.data, p[:n]...)
		p, at = p[n:], at+int64(n)
		r.unread += int64(n)
		f.unread += int64(n)
	}
	for int64(len(r.chunks))*chunk > r.most()+r.most()/2 && r.forget() {
	}
}

var buffers = sync.Pool{New: func() any { return new([chunk]byte) }}

// forget lets go of the chunk that was not used for the longest time, of those that
// were read if there is one.
func (r *Remote) forget() bool {
	oldest := -1
	for i, k := range r.chunks {
		if k.by.last != k && (oldest < 0 || k.before(r.chunks[oldest])) {
			oldest = i
		}
	}
	if oldest < 0 {
		return false
	}
	k := r.chunks[oldest]
	r.chunks = slices.Delete(r.chunks, oldest, oldest+1)
	if unread := int64(len(k.data) - k.read); unread > 0 {
		// It was fetched for nothing: reading goes other ways than foreseen.
		r.unread -= unread
		k.by.unread -= unread
		r.foreseen = append(r.foreseen, Range{k.at, k.at + int64(len(k.data))})
		r.astray = true
	}
	buffers.Put((*[chunk]byte)(k.data[:chunk]))
	return true
}

// before reports whether a chunk is given up before another.
func (k *kept) before(other *kept) bool {
	if read, all := k.read == len(k.data), other.read == len(other.data); read != all {
		return read
	}
	return k.used < other.used
}

// Foresee is that of Foreseer.
func (r *Remote) Foresee(ranges []Range) {
	r.mu.Lock()
	defer r.mu.Unlock()
	has := r.has()
	for _, f := range r.fetches {
		has = append(has, f.left...)
	}
	has = merge(append(has, r.foreseen...))
	for _, want := range ranges {
		want.To = min(want.To, r.Size())
		r.again(want)
		for _, want := range subtract([]Range{want}, has) {
			if last := len(r.foreseen) - 1; last >= 0 && r.foreseen[last].To <= want.From && want.From-r.foreseen[last].To <= r.resource.Host.Gap() {
				r.foreseen[last].To = want.To
				continue
			}
			r.foreseen = append(r.foreseen, want)
		}
	}
	r.astray = false
	r.ahead()
}

// again has what is kept of a range count as unread: it will be read once more.
func (r *Remote) again(want Range) {
	for i := r.find(want.From); i < len(r.chunks) && r.chunks[i].at < want.To; i++ {
		k := r.chunks[i]
		if from := int(max(want.From-k.at, 0)); k.read > from {
			r.unread += int64(k.read - from)
			k.by.unread += int64(k.read - from)
			k.read = from
		}
	}
}

// has are the ranges that are kept, in order.
func (r *Remote) has() []Range {
	has := make([]Range, len(r.chunks))
	for i, k := range r.chunks {
		has[i] = Range{k.at, k.at + int64(len(k.data))}
	}
	return merge(has)
}

// ahead asks for what was foreseen, as far as there is room.
func (r *Remote) ahead() {
	for len(r.foreseen) > 0 && !r.astray && len(r.fetches) < mostRequests && r.err == nil && r.ctx.Err() == nil && !r.resource.Host.Contended() {
		coming := r.unread
		for _, f := range r.fetches {
			for _, want := range f.left {
				coming += want.To - want.From
			}
		}
		if coming >= r.most() {
			return
		}
		// The first ones begin together, and end one after the other: the line never waits for all.
		r.begun = min(r.begun+1, mostRequests)
		room := segment * r.begun / mostRequests
		var batch []Range
		if batch, r.foreseen = cut(subtract(r.foreseen, r.has()), room); batch != nil {
			r.begin(batch)
		}
	}
}

// Close ends what is under way.
func (r *Remote) Close() error {
	r.cancel()
	r.running.Wait()
	r.unlisten()
	r.resource.Close()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err = fault.Reading("", fs.ErrClosed)
	for _, k := range r.chunks {
		buffers.Put((*[chunk]byte)(k.data[:chunk]))
	}
	r.chunks = nil
	return nil
}
