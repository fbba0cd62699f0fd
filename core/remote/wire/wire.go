// Package wire has what the protocols by which other machines are reached have in
// common: what they can do, what is known of what lies there, hosts and their
// connections, and how often something is tried again. How a protocol does it is the
// business of the folder beside this one that is called after it.
package wire

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/url"
	"strings"
	"time"

	"widecrate/core/fault"
)

// Options say how places elsewhere are reached. Zero values are the usual ones.
type Options struct {
	CAFile      string        // certificates to trust beside those of the system
	Token       string        // a bearer token, for the one host that addresses name
	Login       string        // user:password, for the one host that addresses name
	Netrc       string        // file with users and passwords by host; empty: there is none
	Identity    string        // file with a private key; empty: those at the usual places
	KnownHosts  string        // file with the keys of hosts; empty: those at the usual places
	Retries     int           // in a row without a byte in between; 0: 5, below: none
	Idle        time.Duration // no byte for so long is a lost connection; 0: 30 seconds
	Connections int           // at once, for each host; 0: 4
	Pause       time.Duration // before the first retry, doubled with each; 0: half a second
	Say         func(string)  // is called with what goes wrong and is tried again; may be nil
}

// The usual values.
const (
	DefaultRetries     = 5
	DefaultIdle        = 30 * time.Second
	DefaultConnections = 4
	defaultPause       = 500 * time.Millisecond
)

// Complete puts what zero values stand for in their place.
func (o *Options) Complete() {
	if o.Retries == 0 {
		o.Retries = DefaultRetries
	}
	o.Retries = max(o.Retries, 0)
	if o.Idle <= 0 {
		o.Idle = DefaultIdle
	}
	if o.Connections < 1 {
		o.Connections = DefaultConnections
	}
	if o.Pause <= 0 {
		o.Pause = defaultPause
	}
	if o.Say == nil {
		o.Say = func(string) {}
	}
}

// Unknown stands for a size that a server does not say.
const Unknown int64 = -1

// Info is what a server says of a file or folder.
type Info struct {
	Name     string // the last part of its path
	Below    string // folders between the one that was listed and this; empty: none
	Query    string // of the link to it on the page of a folder; empty: none
	Folder   bool
	Size     int64     // bytes, or Unknown
	Modified time.Time // zero: it is not known
	ETag     string    // by which versions are told apart; empty: there is none
	Link     bool      // it is a link, and the rest is said of what that leads to
	Whole    bool      // it is all that opening the file would tell, and the same
}

// Same reports whether what was found later is still the same version.
func (i *Info) Same(now *Info) bool {
	return i.Size == now.Size && strings.TrimPrefix(i.ETag, "W/") == strings.TrimPrefix(now.ETag, "W/") && i.Modified.Equal(now.Modified)
}

// A Range is the bytes from From up to To, where that is Unknown to the end.
type Range struct{ From, To int64 }

// A Resource is a file elsewhere, as it was when it was opened.
type Resource struct {
	Info
	Ranges   bool   // any part of it can be asked for
	Encoding string // that the server says it added; empty: none
	Host     *Host
	Source
}

// A Source is where the bytes of a resource come from.
type Source interface {
	// Fetch gets ranges, which are in order and do not touch, and passes their bytes on as
	// they come. A lost connection is taken up again at the byte. Of a resource without
	// Ranges, the one range starts at 0. It ends with the error of take, or of kind
	// fault.Unreadable.
	Fetch(ctx context.Context, ranges []Range, take func(at int64, p []byte) error) error

	// Close gives up what is held open.
	Close()
}

// A Protocol is a way to reach places on other machines. All of it may be used on several
// goroutines. Errors are of kind fault.Unreadable unless something else is said; where
// nothing is at an address, ErrMissing is in them.
type Protocol interface {
	// Open asks for the first bytes of a file, with head 0 for all of it, or below that for the
	// last bytes, and finds out from the answer what there is to know.
	Open(ctx context.Context, at *url.URL, head int64) (*Resource, error)

	// Stat says what is known of a file or folder without its data.
	Stat(ctx context.Context, at *url.URL) (Info, error)

	// List names what is in a folder, in no order.
	List(ctx context.Context, folder *url.URL) ([]Info, error)

	// Create starts a file where nothing is yet. What fails to be written, here and below, is of
	// kind fault.Unwritable, and ErrThere is in it where something is there.
	Create(ctx context.Context, at *url.URL) (File, error)

	// Rename gives a file another name on the same server, in one step. Where it is still to be what was seen, and the
	// server can be asked for that in the same step, ErrStale is in the error of another; nil: whatever is there.
	Rename(ctx context.Context, from, to *url.URL, replace bool, seen *Info) error

	// Remove removes a file, or a folder that is empty; seen is that of Rename.
	Remove(ctx context.Context, at *url.URL, seen *Info) error

	// MakeFolder makes a folder, and those above it, where they are missing.
	MakeFolder(ctx context.Context, at *url.URL) error

	// MakeNew makes a folder that nobody else has made: ErrThere is in the error where it is there. Of several who ask at
	// once, one makes it.
	MakeNew(ctx context.Context, at *url.URL) error
}

// A File is one that is written. What is read of it was written before.
type File interface {
	io.Writer
	io.WriterAt
	io.ReaderAt

	// Sync is called when all is written: it is all there then, and on its disk as far as the
	// server can be asked for that.
	Sync() error

	Close() error
}

// meaning is an error in words of our own that is one of the system's, too.
type meaning struct {
	words string
	means error
}

func (m *meaning) Error() string        { return m.words }
func (m *meaning) Is(target error) bool { return target == m.means }

var (
	// ErrMissing is in the error of an address at which there is nothing. It is fs.ErrNotExist.
	ErrMissing error = &meaning{"there is nothing at that address", fs.ErrNotExist}

	// ErrUnlisted is in the error of a folder that can be listed by no one, or not by us.
	ErrUnlisted = errors.New("the server does not list it")

	// ErrThere is in the error of an address at which something is already. It is fs.ErrExist.
	ErrThere error = &meaning{"something is there already", fs.ErrExist}

	// ErrStale is in the error of a change to a file that is another by now.
	ErrStale = errors.New("it changed since it was looked at")

	// ErrChanged is the error of what is not as it was any more.
	ErrChanged = fault.New(fault.Unreadable, "%w", errChanged).Advise("run it again when nothing writes to it any more")

	errChanged = errors.New("it changed while it was read")
)

// IsChanged reports whether an error is ErrChanged, wherever that happened.
func IsChanged(err error) bool { return errors.Is(err, errChanged) }
