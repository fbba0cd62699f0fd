package receipt

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"sync"

	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/report"
)

// Is reports whether a file is a receipt.
func Is(sites newfile.Sites, path string) bool {
	info, err := sites.Stat(path)
	return err == nil && info.Size() > 0 && Check(sites, path) == nil
}

// Check makes sure that a file can be appended to: it is a receipt, or there is nothing in
// it yet. Anything else is of kind fault.Refused.
func Check(sites newfile.Sites, path string) error {
	return disposal.OfKind(sites.Sites, path, "a receipt", isReceipt)
}

// isReceipt knows a receipt by the start of its first line, of which a run that was killed
// may have written less.
func isReceipt(start []byte) bool {
	first, _, ended := bytes.Cut(start, []byte("\n"))
	return bytes.HasPrefix(first, []byte(runStart)) || bytes.HasPrefix([]byte(runStart), first) && (ended || len(start) == len(first))
}

// What lines start with.
const (
	runStart    = `{"kind":"run"`
	unitStart   = `{"kind":"unit"`
	fileStart   = `{"kind":"file"`
	movedStart  = `{"kind":"moved"`
	undoneStart = `{"kind":"undone"`
)

// Receipts are what earlier runs say. What belongs to an archive stays on disk until
// it is asked for.
type Receipts struct {
	Remarks []string // lines that could not be read

	sites newfile.Sites
	files []io.Closer
	runs  map[string]*Run
	order []*Run // by when they began
	moved []Moved
	units []entry // in their order
	byID  map[identity]int32
	names map[string]string // folders, once each

	latest    sync.Once
	delivered map[string]File // once it is needed
}

// entry is what counts of a unit, and where its lines are. There may be millions: what is
// seldom asked for is read again.
type entry struct {
	run      *Run
	file     *os.File
	at, size int64 // of the lines of its files
	length   int64 // of its own line, before those
	root     string
	dates    *choose.Window
	files    int
	complete bool // all of them are there
	partial  bool
	failed   bool
	lost     bool // files of it
	undone   bool
	made     bool // it is an archive that was made
}

// mark is what is read of the line of a unit beforehand.
type mark struct {
	ID      string         `json:"id"`
	Run     string         `json:"run"`
	Root    string         `json:"root"`
	Files   int            `json:"files"`
	Partial bool           `json:"partial"`
	Failure *struct{}      `json:"failure"`
	Lost    int            `json:"lost"`
	Parts   []struct{}     `json:"parts"` // of an archive that was made
	Dates   *choose.Window `json:"dates"`
}

// identity is an ID as it is kept here; zero: none.
type identity [16]byte

func identityOf(id string) (key identity) {
	if hex.DecodedLen(len(id)) == len(key) {
		if _, err := hex.Decode(key[:], []byte(id)); err != nil {
			return identity{}
		}
	}
	return key
}

// Load reads receipts; one that is not there yet is empty. Errors are of kind
// fault.Unreadable, or fault.Damaged for what is no receipt.
func Load(sites newfile.Sites, paths ...string) (*Receipts, error) {
	r := &Receipts{sites: sites, runs: map[string]*Run{}, byID: map[identity]int32{}, names: map[string]string{}}
	for _, path := range paths {
		if err := r.load(path); err != nil {
			r.Close()
			return nil, err
		}
	}
	return r, nil
}

// Close closes the files.
func (r *Receipts) Close() error {
	for _, f := range r.files {
		f.Close() // read only: nothing can be lost
	}
	return nil
}

// open opens a receipt; nil: there is none.
func (r *Receipts) open(path string) (*os.File, error) {
	f, err := r.sites.OpenFile(path)
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		a := &sent{sites: r.sites, path: path}
		if err := a.fetch(); err != nil {
			return nil, err
		}
		r.files = append(r.files, a.file)
		_, err := a.file.Seek(0, io.SeekStart)
		return a.file.File, fault.Reading(path, err)
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, fault.Reading(path, err)
	}
	r.files = append(r.files, f)
	return f, nil
}

func (r *Receipts) load(path string) error {
	f, err := r.open(path)
	if f == nil || err != nil {
		return err
	}
	l := loading{Receipts: r, file: f, first: len(r.units)}
	in := bufio.NewReaderSize(f, 1<<20)
	for at := int64(0); err == nil; {
		var text []byte
		if text, err = readLine(in); err != nil && err != io.EOF {
			return fault.Reading(path, err)
		}
		switch {
		case len(text) == 0:
		case at == 0 && !isReceipt(text):
			return fault.At(path, fault.New(fault.Damaged, "it is no receipt").Suggest(fault.NameReceipt))
		default:
			at += int64(len(text))
			if err := l.line(text, at, err == nil); err != nil {
				return senseless(path, err)
			}
		}
	}
	if l.bad > 0 {
		r.Remarks = append(r.Remarks, fmt.Sprintf("%s: %d lines were cut off, as by a run that was killed, and do not count", path, l.bad))
	}
	if err := l.read(); err != nil {
		return senseless(path, err)
	}
	return l.finish()
}

// readLine reads a line with its end, however long it is; the slice is good until the next call.
func readLine(in *bufio.Reader) ([]byte, error) {
	text, err := in.ReadSlice('\n')
	var long []byte
	for errors.Is(err, bufio.ErrBufferFull) {
		long = append(long, text...)
		text, err = in.ReadSlice('\n')
	}
	if long != nil {
		text = append(long, text...)
	}
	return text, err
}

func senseless(path string, err error) error {
	return fault.At(path, fault.New(fault.Damaged, "a line of it makes no sense: %w", err))
}

// loading is a receipt that is being read.
type loading struct {
	*Receipts
	file   *os.File
	first  int        // of its units, among all
	raw    [][]byte   // the last units, which are not read yet
	ids    []identity // of all
	undone map[Undone]bool
	wanted int // lines of files that are still to come
	bad    int // lines that do not count
}

// line takes a line in, which ends at a place of the file, and has an end.
func (l *loading) line(text []byte, at int64, ended bool) (err error) {
	complete := ended && bytes.HasSuffix(text, []byte("}\n"))
	switch {
	case complete && bytes.HasPrefix(text, []byte(fileStart)) && l.wanted > 0:
		l.wanted--
		l.units[len(l.units)-1].complete = l.wanted == 0
		l.units[len(l.units)-1].size += int64(len(text))
	case complete && bytes.HasPrefix(text, []byte(unitStart)):
		l.units = append(l.units, entry{file: l.file, at: at, length: int64(len(text))})
		l.raw = append(l.raw, bytes.Clone(text))
		l.wanted, err = filesIn(text)
		l.units[len(l.units)-1].complete = l.wanted == 0
		if err == nil && len(l.raw) == batch {
			err = l.read()
		}
	case complete && bytes.HasPrefix(text, []byte(runStart)):
		run := new(Run)
		if err = json.Unmarshal(text, run); err == nil {
			l.runs[run.ID] = run
			l.order = append(l.order, run)
		}
	case complete && bytes.HasPrefix(text, []byte(movedStart)):
		var moved Moved
		if err = report.Unmarshal(text, &moved); err == nil {
			l.moved = append(l.moved, moved)
		}
	case complete && bytes.HasPrefix(text, []byte(undoneStart)):
		var undone Undone
		if err = report.Unmarshal(text, &undone); err == nil {
			undone.Kind, undone.Run = "", ""
			if l.undone == nil {
				l.undone = map[Undone]bool{}
			}
			l.undone[undone] = true
		}
	case len(bytes.TrimSpace(text)) > 0:
		l.bad++
	}
	return err
}

// filesIn is how many lines of files a unit announces, without reading all of it.
func filesIn(text []byte) (n int, err error) {
	_, rest, found := bytes.Cut(text, []byte(`"files":`))
	if !found {
		return 0, errors.New("it does not say how many files follow")
	}
	_, err = fmt.Sscan(string(rest[:min(len(rest), 20)]), &n)
	return n, err
}

// batch is how many lines of units are read at once.
const batch = 1 << 12

// read reads the last units on all cores.
func (l *loading) read() error {
	marks := make([]mark, len(l.raw))
	var group sync.WaitGroup
	failed := make([]error, runtime.GOMAXPROCS(0))
	for w := range failed {
		group.Go(func() {
			for i := w; i < len(marks) && failed[w] == nil; i += len(failed) {
				failed[w] = report.Unmarshal(l.raw[i], &marks[i])
			}
		})
	}
	group.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	last := l.units[len(l.units)-len(marks):]
	for i, m := range marks {
		e := &last[i]
		e.run, e.root, e.dates, e.files = l.runs[m.Run], l.once(m.Root), m.Dates, m.Files
		e.partial, e.failed, e.lost, e.made = m.Partial, m.Failure != nil, m.Lost > 0, m.Parts != nil
		l.ids = append(l.ids, identityOf(m.ID))
	}
	clear(l.raw)
	l.raw = l.raw[:0]
	return nil
}

// finish puts the units where they are found.
func (l *loading) finish() error {
	undone := map[string]bool{} // runs of which something was
	for u := range l.undone {
		undone[u.Of] = true
	}
	for i, id := range l.ids {
		e := &l.units[l.first+i]
		if e.run != nil && undone[e.run.ID] {
			var u Unit
			if err := e.whole(&u); err != nil {
				return err
			}
			e.undone = l.undone[Undone{Of: e.run.ID, Archive: u.Archive, Destination: u.Destination}]
		}
		if id != (identity{}) && !e.undone {
			l.byID[id] = int32(l.first + i) //nolint:gosec // receipts are smaller
		}
	}
	return nil
}

// once is a text of which there are many, with room for one.
func (r *Receipts) once(text string) string {
	if known, is := r.names[text]; is {
		return known
	}
	r.names[text] = text
	return text
}

// rows reads the lines of files of a unit.
func (e *entry) rows() ([]File, error) {
	b := make([]byte, e.size)
	if _, err := e.file.ReadAt(b, e.at); err != nil && err != io.EOF {
		return nil, fault.Reading(e.file.Name(), err)
	}
	files := make([]File, 0, e.files)
	for text := range bytes.Lines(b) {
		var f File
		if err := report.Unmarshal(text, &f); err != nil {
			return nil, senseless(e.file.Name(), err)
		}
		files = append(files, f)
	}
	return files, nil
}
