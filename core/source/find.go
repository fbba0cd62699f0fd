package source

import (
	"context"
	"errors"
	"hash/maphash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// A Request says where archives are looked for.
type Request struct {
	Names     []string // files and folders, taken to the letter, addresses, and "-" for Input
	Pairs     []Pair   // more of them, each with a destination root
	Recursive bool     // look in the folders below too
	Archives  []string // patterns: in a folder, only what matches one is taken, whatever its extension; none: what has an archive's extension

	PartsIn []string      // folders in which parts of sets may also lie
	Wait    time.Duration // for parts that are still arriving, for all sets together

	Series      []string // names with "{n}", and perhaps "*": the archives of such names are one source
	SeriesCount int      // how many archives each of them must have; 0: as many as its name says
	AllowGaps   bool     // numbers may be missing in a series

	Settled time.Duration // what was modified less than this long ago is left alone; 0: nothing is
	Left    func(Source)  // gets it; may be nil

	// Others gets how many files of folders are not taken, by extension, or OtherExtensions, save lists of sums; nil: nobody asks.
	// With RefuseOthers, each of them is a source with an error of kind fault.Damaged.
	Others       func(byExtension map[string]int)
	RefuseOthers bool

	// Begun gets what is in each folder before archives are looked for there, and reports
	// whether it changed something; nil: nothing is done.
	Begun func(sites storage.Sites, folder string, names []string) (changed bool, err error)

	// Skip reports whether a folder below a named one is not looked into; nil: none is.
	Skip func(folder string) bool

	Remote *remote.Client // for addresses; nil: a usual one
	Input  io.Reader      // that "-" stands for; nil: standard input
}

// Find finds the sources of a request, in order, and before them those that cannot
// be used, so that this is known before any work is done. A file stands for itself,
// whatever its name is, or for the set of which it is a part; a folder for the
// sets in it and the files that have an archive's extension or match Archives,
// in natural order (2 before 10). The same archive named twice is taken once. A
// name that cannot be used, and a set or series that is not complete, becomes a
// Source with an error; a malformed pattern is of kind fault.Usage, and a series
// of which there is nothing of kind fault.NoMatch.
func Find(ctx context.Context, r Request) ([]Source, error) {
	deadline := time.Now().Add(r.Wait)
	for {
		sources, err := find(ctx, r)
		left := time.Until(deadline)
		if r.Wait <= 0 || left <= 0 || !waitsForSeries(r, sources, err) {
			return sources, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(min(time.Second, left)):
		}
		r.Wait = max(time.Until(deadline), 1) // what is left of it is for sets as well
	}
}

// waitsForSeries reports whether a series may still be arriving.
func waitsForSeries(r Request, sources []Source, err error) bool {
	return len(r.Series) > 0 && fault.Of(err) == fault.NoMatch ||
		slices.ContainsFunc(sources, func(s Source) bool { return s.Members() != nil && fault.Of(s.Err()) == fault.Incomplete })
}

// Check finds patterns that make no sense, without looking at any file: kind fault.Usage.
func (r *Request) Check() error {
	for _, pattern := range r.Series {
		if strings.Count(pattern, "{n}") != 1 || strings.ContainsAny(pattern, `/\`) {
			return fault.New(fault.Usage, "the series %q is no name with one {n} in it", pattern).Advise(`a series is a file name such as "suite-{n}.tar"`)
		}
	}
	return CheckPatterns(r.Archives)
}

func find(ctx context.Context, r Request) ([]Source, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	if r.Remote == nil {
		r.Remote = remote.New(remote.Options{})
	}
	f := &finder{Request: r, ctx: ctx, seen: map[uint64]int32{}, seed: maphash.MakeSeed(), others: map[string]int{}}
	f.sets = parts.Lookup{Sites: f.sites(), More: r.PartsIn}
	f.readSeries()
	for _, pair := range append(named(r.Names), r.Pairs...) {
		if err := f.addSource(pair.Source, pair.To); err != nil {
			return nil, err
		}
	}
	if err := f.await(ctx); err != nil {
		return nil, err
	}
	if r.Others != nil {
		r.Others(f.others)
	}
	for i := range f.found {
		f.found[i].check()
	}
	sources, err := f.inSeries()
	if r.Settled > 0 {
		if wrong := f.askTimes(sources); wrong != nil {
			return nil, wrong
		}
		sources = slices.DeleteFunc(sources, func(s Source) bool {
			left := s.arriving(time.Now(), r.Settled)
			if left && r.Left != nil {
				r.Left(s)
			}
			return left
		})
	}
	usable := func(s Source) int {
		if s.Err() != nil {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(sources, func(a, b Source) int { return usable(a) - usable(b) })
	return sources, err
}

// arriving reports whether one of the files was modified less than settled ago. A time in the
// future counts if it is no further away than that, as the clock of another machine may be a
// little ahead; a later one says nothing of when the file came.
func (s *Source) arriving(now time.Time, settled time.Duration) bool {
	recent := func(modified time.Time) bool { return now.Sub(modified).Abs() < settled }
	switch {
	case s.Members() != nil:
		return slices.ContainsFunc(s.Members(), func(m Source) bool { return m.arriving(now, settled) })
	case s.Set() != nil:
		return slices.ContainsFunc(s.Set().Parts, func(p parts.Part) bool { return p.Info != nil && recent(p.Info.ModTime()) })
	case s.Address() != nil:
		_, modified := s.Address().Said()
		return s.Err() == nil && recent(modified)
	case s.Elsewhere():
		return false
	}
	info, err := os.Stat(s.Path)
	return err == nil && recent(info.ModTime())
}

// Barren are the folders among names in which none of the sources lies, in order.
func Barren(names []string, sources []Source) (folders []string) {
	holds := map[string]bool{}
	var elsewhere []string
	for _, s := range sources {
		if s.Elsewhere() {
			elsewhere = append(elsewhere, s.Path)
			continue
		}
		at, err := filepath.Abs(s.Path)
		for err == nil && !holds[at] {
			holds[at] = true
			at = filepath.Dir(at)
		}
	}
	for _, name := range names {
		if remote.IsAddress(name) {
			if strings.HasSuffix(name, "/") && !slices.ContainsFunc(elsewhere, func(at string) bool { return strings.HasPrefix(at, name) }) {
				folders = append(folders, name)
			}
			continue
		}
		at, err := filepath.Abs(name)
		if err != nil || holds[at] {
			continue
		}
		if info, err := os.Stat(name); err == nil && info.IsDir() {
			folders = append(folders, name)
		}
	}
	return folders
}

// CheckPatterns makes sure that patterns are well-formed.
func CheckPatterns(patterns []string) error {
	for _, p := range patterns {
		if !doublestar.ValidatePattern(p) {
			return fault.New(fault.Usage, "the pattern %q is malformed", p)
		}
	}
	return nil
}

// IsArchive reports whether a file in a folder, or in another archive, is taken for
// an archive by its path below that: it matches one of the patterns or, where there
// are none, has an archive's extension. A pattern with a slash counts for the whole
// path, another for the last name.
func IsArchive(below string, patterns []string) bool {
	if len(patterns) == 0 {
		_, known := format.ByName(path.Base(below))
		return known
	}
	for _, p := range patterns {
		name := below
		if !strings.Contains(p, "/") {
			name = path.Base(below)
		}
		if ok, _ := doublestar.Match(p, name); ok { // checked before
			return true
		}
	}
	return false
}

// named are names without destination roots of their own.
func named(names []string) []Pair {
	pairs := make([]Pair, len(names))
	for i, name := range names {
		pairs[i].Source = name
	}
	return pairs
}

type finder struct {
	Request
	ctx    context.Context
	folder string // in which the program runs
	series []series
	found  []Source
	seen   map[uint64]int32 // places in found, by a hash of their keys: there may be millions
	seed   maphash.Seed
	sets   parts.Lookup
	begun  map[string]bool // folders of named files, where that was finished
	others map[string]int  // files that are not taken, by extension
	above  []string        // what the folders at addresses have that are being looked into, one in the other
}

// sites are where sources can be.
func (f *finder) sites() storage.Sites { return storage.Sites{Context: f.ctx, Client: f.Remote} }

// addSource adds what a name stands for. Its error is about the request itself.
func (f *finder) addSource(name string, to To) error {
	switch {
	case name == "-":
		return f.addInput(to)
	case remote.IsAddress(name):
		return f.addAddress(name, to)
	}
	return f.addName(name, to)
}

// add adds a source, unless it is there already.
func (f *finder) add(s Source) {
	if f.folder == "" && !s.Elsewhere() && !filepath.IsAbs(s.Path) { // asked for once: there may be very many
		var err error
		if f.folder, err = filepath.Abs("."); err != nil && s.Err() == nil {
			s = s.Failed(fault.Reading(s.Path, err))
		}
	}
	key, absolute := f.keyOf(s)
	for hash := maphash.String(f.seed, key); ; hash++ {
		at, taken := f.seen[hash]
		if !taken {
			f.seen[hash] = int32(len(f.found))
			f.found = append(f.found, s)
			return
		}
		if other, first := f.keyOf(f.found[at]); other == key && (first == absolute || sameFile(first, absolute)) {
			return
		}
	}
}

// keyOf tells a source from those that lie elsewhere, or go elsewhere, as far as its name says it.
func (f *finder) keyOf(s Source) (key, absolute string) {
	key, absolute = s.Path, s.Path
	if !s.Elsewhere() {
		if !filepath.IsAbs(absolute) {
			absolute = filepath.Join(f.folder, absolute)
		}
		key = place.Key(absolute)
	}
	return key + s.To().key(), absolute
}

func (f *finder) addName(name string, to To) error {
	info, err := os.Stat(name)
	if f.Begun != nil && (err != nil || !info.IsDir()) { // of its set, some parts may be taken away already
		f.listed(filepath.Dir(name))
		info, err = os.Stat(name)
	}
	if set := f.setOf(name, info); set != nil {
		f.add(OfSet(set).below("", to))
		return nil
	}
	switch {
	case err != nil && isPattern(name):
		return f.expand(name, to)
	case err != nil:
		f.add(New(name, missing(name, err)).below("", to))
	case info.IsDir() && folder.IsAhead(name):
		f.add(New(name, missing(name, fs.ErrNotExist)).below("", to))
	case info.IsDir():
		return f.addFolder(name, "", to)
	case !info.Mode().IsRegular():
		f.add(New(name, fault.At(name, fault.New(fault.Unreadable, "it is neither a file nor a folder"))).below("", to))
	default:
		f.add(New(name, nil).below("", to))
	}
	return nil
}

// expand adds what matches a pattern.
func (f *finder) expand(pattern string, to To) error {
	matches, err := Match(pattern)
	if err == nil && matches == nil {
		err = fault.New(fault.Unreadable, "nothing matches")
	}
	if err != nil {
		f.add(New(pattern, fault.At(pattern, err)).below("", to))
	}
	for _, match := range matches {
		if err := f.addName(match, to); err != nil {
			return err
		}
	}
	return nil
}

// sameFile reports whether two paths that only differ in letter case are the same.
func sameFile(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX != nil || errY != nil || os.SameFile(x, y)
}

func missing(name string, err error) error {
	err = fault.Reading(name, err)
	if errors.Is(err, fs.ErrNotExist) && strings.ContainsAny(name, "*?") {
		return fault.At(name, fault.New(fault.Unreadable, "there is no such file or folder").Suggest(fault.MatchNames))
	}
	return err
}

// listed lists the folder of a file that is named, for what was begun there: once.
func (f *finder) listed(folder string) {
	if f.begun[folder] {
		return
	}
	if f.begun == nil {
		f.begun = map[string]bool{}
	}
	f.begun[folder] = true
	_, _ = f.list(folder) // what is wrong with it, the file says
}
