package verify

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/maruel/natural"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/storage"
	"widecrate/core/walk"
)

// Comparison is a request to compare two archives, two folders, or one of each.
// Files and links count, folders only by what is in them.
type Comparison struct {
	A, B         string         // paths, or addresses; one may be "-", standard input
	Finding      source.Request // how archives are found, but for their names
	Selection    *choose.Selection
	PeelA, PeelB int // folders to drop from the paths on either side; neither: the one folder of a side may be, see report.Compared
	Times        bool
	Reading      archive.Options
	Limits       bound.Limits
	Sums         *parts.Lists  // of SHA-256 sums, to check archives against; nil: those beside sets alone
	Read         *atomic.Int64 // counts what was decoded; nil: nobody asks

	hash bool // one side is a receipt: files are compared by SHA-256
}

// tolerance of times: some archives keep only every second second.
const tolerance = 2 * time.Second

// Compare compares the two sides. Checksums that a directory has are used before
// anything is decoded.
func Compare(ctx context.Context, c Comparison) (*report.Compared, error) {
	r := &report.Compared{A: c.A, B: c.B}
	if c.Sums == nil {
		c.Sums = new(parts.Lists)
	}
	if c.Finding.Remote == nil {
		c.Finding.Remote = remote.New(remote.Options{})
	}
	sites := newfile.Sites{Sites: storage.Sites{Context: ctx, Client: c.Finding.Remote}}
	c.hash = receipt.Is(sites, c.A) || receipt.Is(sites, c.B)
	a, err := c.load(ctx, c.A, c.PeelA, &r.LeftOut)
	defer a.close()
	if err != nil {
		return nil, err
	}
	b, err := c.load(ctx, c.B, c.PeelB, &r.LeftOut)
	defer b.close()
	if err != nil {
		return nil, err
	}
	if c.PeelA+c.PeelB == 0 {
		r.PeeledA, r.PeeledB = unwrap(a, b)
	}
	for _, path := range slices.Sorted(maps.Keys(a.items)) {
		x := a.items[path]
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		y, both := b.items[path]
		if !both {
			r.Add(report.Difference{Path: path, Status: report.OnlyA, SizeA: &x.Size})
			continue
		}
		what, err := c.differ(x, y)
		if err != nil {
			return nil, err
		}
		if what == "" {
			r.Same++
			if x.Kind == archive.File && x.Size > 0 && !(x.read && y.read) {
				r.Unread++
			}
			continue
		}
		r.Add(report.Difference{Path: path, Status: report.Different, What: what, SizeA: &x.Size, SizeB: &y.Size})
	}
	for path, y := range b.items {
		if _, both := a.items[path]; !both {
			r.Add(report.Difference{Path: path, Status: report.OnlyB, SizeB: &y.Size})
		}
	}
	if r.Same+len(r.Differences) == 0 {
		return nil, fault.New(fault.NoMatch, "there is nothing to compare on either side: %s", r.LeftOut.String())
	}
	slices.SortFunc(r.Differences, func(x, y report.Difference) int { return natural.Compare(x.Path, y.Path) })
	return r, nil
}

// unwrap drops the one folder that all of one side lies in, where the other side has what is
// in it, and the two have no path in common.
func unwrap(a, b *side) (topA, topB string) {
	for path := range a.items {
		if b.items[path] != nil {
			return "", ""
		}
	}
	if topA = a.within(b); topA == "" {
		topB = b.within(a)
	}
	return topA, topB
}

// within drops the one folder of a side, if anything in it is at the same path on the other.
func (s *side) within(other *side) (top string) {
	common := false
	inside := map[string]*thing{}
	for path, t := range s.items {
		first, rest, is := strings.Cut(path, "/")
		if !is || top != "" && first != top {
			return ""
		}
		top, inside[rest] = first, t
		common = common || other.items[rest] != nil
	}
	if !common {
		return ""
	}
	s.items = inside
	return top
}

// thing is an entry of one side.
type thing struct {
	archive.Entry
	stored string // its path as it was found
	sha256 string // of what a receipt knows, or was compared with it
	open   func() (io.ReadCloser, error)
	read   bool // its data was, to its end
}

// differ says what is not the same; "" if all is.
func (c *Comparison) differ(x, y *thing) (string, error) {
	switch {
	case x.Kind != y.Kind:
		return "kind", nil
	case x.Kind == archive.Symlink || x.Kind == archive.Hardlink:
		if x.Link != y.Link {
			return "link", nil
		}
		return "", nil
	case x.Size != y.Size:
		return "size", nil
	}
	same, err := sameContent(x, y)
	switch {
	case err != nil:
		return "", err
	case !same:
		return "content", nil
	case c.Times && x.Modified.Sub(y.Modified).Abs() > tolerance:
		return "time", nil
	}
	return "", nil
}

// sameContent compares by checksums, and by SHA-256 where one of the two is only known
// by that.
func sameContent(x, y *thing) (bool, error) {
	if x.sha256 == "" && y.sha256 == "" {
		for _, t := range []*thing{x, y} {
			if err := t.sum(); err != nil {
				return false, err
			}
		}
		return x.CRC32 == y.CRC32, nil
	}
	for _, t := range []*thing{x, y} {
		if t.sha256 != "" || t.Kind != archive.File {
			continue
		}
		data, err := t.open()
		if err == nil {
			err = t.take(data, bound.Meter{}, true)
			data.Close()
		}
		if err != nil {
			return false, err
		}
	}
	return x.sha256 == y.sha256, nil
}

// sum makes sure that the checksum is known.
func (t *thing) sum() error {
	if t.HasCRC32 || t.Kind != archive.File {
		return nil
	}
	data, err := t.open()
	if err != nil {
		return err
	}
	defer data.Close()
	return t.take(data, bound.Meter{}, false)
}

// take sums data up: it finds the size and the checksum, and the SHA-256 where that is asked
// for.
func (t *thing) take(data io.Reader, meter bound.Meter, hashed bool) (err error) {
	sum, long := crc32.NewIEEE(), sha256.New()
	meter.Sums = []hash.Hash{sum}
	if hashed {
		meter.Sums = append(meter.Sums, long)
	}
	t.Size, err = io.Copy(meter.Writer(bound.Nowhere), data)
	t.CRC32, t.HasCRC32, t.read = sum.Sum32(), true, err == nil
	if hashed {
		t.sha256 = hex.EncodeToString(long.Sum(nil))
	}
	return err
}

// side is one of the two.
type side struct {
	items map[string]*thing
	close func() error
}

func (c *Comparison) load(ctx context.Context, path string, peel int, leftOut *choose.Tally) (*side, error) {
	s := &side{items: map[string]*thing{}, close: func() error { return nil }}
	add := func(t *thing) error {
		if t.Kind == archive.Folder {
			return nil
		}
		t.stored = t.Path
		if verdict := c.Selection.Judge(&t.Entry); verdict != choose.Kept {
			leftOut[verdict]++
			return nil
		}
		shape := place.Placement{Peel: peel}
		paths, err := shape.Paths([]*archive.Entry{&t.Entry}, place.Naming{})
		if err != nil {
			return fault.At(path, err)
		}
		if paths[0] == place.Peeled {
			leftOut[choose.Pathless]++
			return nil
		}
		if first, there := s.items[paths[0]]; there && first.stored != t.stored {
			return fault.At(path, fault.New(fault.Refused, "%s and %s would both be %s", first.stored, t.stored, paths[0]).Suggest(fault.PeelLess))
		}
		s.items[paths[0]] = t
		return nil
	}
	sites := newfile.Sites{Sites: storage.Sites{Context: ctx, Client: c.Finding.Remote}}
	switch info, err := sites.Stat(path); {
	case path == "-":
	case err != nil:
		return s, fault.Reading(path, err)
	case info.IsDir() && storage.IsFar(info):
		return s, fault.At(path, fault.New(fault.Unreadable, "it is a folder at an address, and no archive").Advise("name an archive in it"))
	case info.IsDir():
		return s, loadFolder(ctx, path, add)
	case receipt.Is(sites, path):
		return s, loadReceipt(sites, path, add)
	}
	return s, s.loadArchive(ctx, path, c, add)
}

// loadReceipt takes what was delivered, or packed, from a receipt.
func loadReceipt(sites newfile.Sites, path string, add func(*thing) error) error {
	r, err := receipt.Load(sites, path)
	if err != nil {
		return err
	}
	defer r.Close()
	files, err := r.Contents()
	if err != nil {
		return err
	}
	for name, f := range files {
		t := &thing{Entry: archive.Entry{Path: name, Size: f.Size, Modified: f.Modified, Link: f.Link}, sha256: f.SHA256, read: true} // it has no data
		switch {
		case f.Type == archive.Symlink.String():
			t.Kind = archive.Symlink
		case f.SHA256 == "":
			t.Kind = archive.Other
		}
		if err := add(t); err != nil {
			return err
		}
	}
	return nil
}

func loadFolder(ctx context.Context, root string, add func(*thing) error) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || d.IsDir() {
			return fault.Reading(path, err)
		}
		info, err := d.Info()
		if err != nil {
			return fault.Reading(path, err)
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return fault.Reading(path, err)
		}
		t := &thing{Entry: archive.Entry{Path: filepath.ToSlash(rel), Size: info.Size(), Modified: info.ModTime()}}
		switch {
		case d.Type()&fs.ModeSymlink != 0:
			t.Kind = archive.Symlink
			if t.Link, err = os.Readlink(path); err != nil {
				return fault.Reading(path, err)
			}
			t.Link = filepath.ToSlash(t.Link)
		case !d.Type().IsRegular():
			t.Kind = archive.Other
		}
		t.open = func() (io.ReadCloser, error) {
			f, _, err := folder.OpenRegular(path)
			return f, fault.Reading(path, err)
		}
		return add(t)
	})
}

func (s *side) loadArchive(ctx context.Context, path string, c *Comparison, add func(*thing) error) error {
	find := c.Finding
	find.Names = []string{path}
	sources, err := source.Find(ctx, find)
	if err != nil {
		return err
	}
	if sources[0].Err() != nil { // which says where
		return sources[0].Err()
	}
	a, err := walk.Open(ctx, sources[0], walk.Opening{Options: c.Reading, Limits: c.Limits, Sums: c.Sums})
	if err != nil {
		return fault.At(path, err)
	}
	s.close = a.Close
	var links place.Hardlinks
	var entries []archive.Entry
	var things []*thing
	for e, err := range a.Walk(ctx) {
		if err != nil {
			return fault.At(path, err)
		}
		t := &thing{Entry: *e.Entry}
		if err := t.know(a, e, path, bound.Meter{Context: ctx, Budget: a.Budget(), Total: c.Read}, c.hash); err != nil {
			return fault.At(path, fault.At(e.Path, err))
		}
		entries, things = append(entries, t.Entry), append(things, t)
		if e.Kind == archive.Hardlink { // a hard link is the same as what it is a second name of
			first, err := links.First(entries, len(entries)-1)
			if err != nil {
				return fault.At(path, fault.At(e.Path, err))
			}
			same := *things[first]
			same.Path = e.Path
			t = &same
		}
		if err := add(t); err != nil {
			return err
		}
	}
	return nil
}

// know finds out about an entry what cannot be found out later: where a link leads, and the
// sum of data that comes in order.
func (t *thing) know(a *walk.Archive, e *walk.Entry, path string, meter bound.Meter, hash bool) (err error) {
	switch i := e.Index; {
	case t.Kind == archive.Symlink:
		t.Link, err = e.Target()
	case a.AnyOrder():
		t.open = func() (io.ReadCloser, error) {
			data, err := a.Data(i)
			if err != nil {
				return nil, fault.At(path, fault.At(t.Path, err))
			}
			return struct {
				io.Reader
				io.Closer
			}{meter.Reader(data), data}, nil
		}
	case t.Kind == archive.File:
		err = t.take(e, meter, hash)
	}
	return err
}
