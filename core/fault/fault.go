// Package fault sorts what can go wrong into kinds, so that every error of the
// core says what, where, why and what to do, and a caller can tell the kinds
// apart with errors.Is. It knows no exit codes and no screen.
package fault

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// A Kind is a class of failure. It is an error itself, so that
// errors.Is(err, fault.Damaged) holds for every error of that class.
type Kind uint8

// The kinds. Other is for everything without a class of its own.
const (
	Other      Kind = iota
	Usage           // the request itself is wrong; nothing was touched
	Refused         // what is there would change
	Incomplete      // a set lacks a part or is out of order
	Password        // a password is missing or wrong
	NoMatch         // nothing matched the selection
	Damaged         // damaged, or not a format that is read
	Unreadable      // a source is missing, unreadable or unreachable
	Unsafe          // leaves its root, or exceeds a bound
	Unwritable      // the destination cannot be written
)

var kindNames = [...]string{"failed", "wrong request", "refused", "incomplete set", "password",
	"nothing matched", "damaged", "unreadable", "unsafe", "cannot write"}

// InSource reports whether something is wrong with a source itself, and not with the disk, the
// destination or the request.
func (k Kind) InSource() bool {
	return k == Damaged || k == Password || k == Unsafe || k == Incomplete
}

func (k Kind) Error() string { return kindNames[k] }

// Error is a failure of one kind at one place.
type Error struct {
	Kind  Kind
	Where string // the file, archive or entry concerned, outermost first, joined by " › "; may be empty
	Err   error  // why
	Do    string // what the reader can do about it; may be empty
	Hint  Hint   // the same where it depends on the program
}

// New makes an error of the given kind; format and args say why, %w included.
func New(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, Err: fmt.Errorf(format, args...)}
}

// Advise returns the error with a hint about what to do.
func (e *Error) Advise(do string) *Error {
	e.Do = do
	return e
}

// Suggest returns the error with what can be done about it by way of the program.
func (e *Error) Suggest(h Hint) *Error {
	e.Hint = h
	return e
}

func (e *Error) Error() string {
	if e.Where == "" {
		return e.Err.Error()
	}
	return e.Where + ": " + e.Err.Error()
}

// Unwrap makes both the kind and the cause visible to errors.Is and errors.As.
func (e *Error) Unwrap() []error { return []error{e.Kind, e.Err} }

// At says where err happened: an archive around an entry, say. The kind and the
// hint are kept. It returns nil for a nil error.
func At(where string, err error) error {
	if err == nil {
		return nil
	}
	inner, ok := errors.AsType[*Error](err)
	if !ok {
		return &Error{Kind: Other, Where: where, Err: err}
	}
	if inner.Where != "" {
		where += " › " + inner.Where
	}
	return &Error{Kind: inner.Kind, Where: where, Err: inner.Err, Do: inner.Do, Hint: inner.Hint}
}

// Reading wraps an error of the system met while reading path as Unreadable;
// the path that the system error repeats is left out.
func Reading(path string, err error) error {
	err = system(Unreadable, path, err)
	e, plain := err.(*Error)
	plain = plain && e.Do == "" && e.Hint == 0
	switch {
	case plain && errors.Is(e.Err, syscall.EISDIR):
		return At(e.Where, Folder())
	case plain && errors.Is(e.Err, fs.ErrNotExist):
		return &Error{Kind: e.Kind, Where: e.Where, Err: missing{e.Err}, Do: "names are taken exactly as written, brackets and spaces too; check the name and the current folder"}
	}
	return err
}

// Folder is the error of a folder where a file is needed.
func Folder() *Error {
	return New(Unreadable, "it is a folder, and a file is needed here").Advise("name a file")
}

// missing says of something that it is not there, on every system in the same words.
type missing struct{ error }

func (missing) Error() string   { return "there is no such file or folder" }
func (m missing) Unwrap() error { return m.error }

// Writing is Reading for the other direction: the error becomes Unwritable.
func Writing(path string, err error) error { return system(Unwritable, path, err) }

// Unwritten is Writing also for an error of kind Unreadable: what was to be written to could not be looked at.
func Unwritten(path string, err error) error {
	if e, is := errors.AsType[*Error](err); is && e.Kind == Unreadable {
		return &Error{Kind: Unwritable, Where: cmp.Or(e.Where, path), Err: e.Err, Do: e.Do, Hint: e.Hint}
	} else if is && e.Where == "" {
		return At(path, err)
	}
	return Writing(path, err)
}

func system(kind Kind, path string, err error) error {
	if err == nil {
		return nil
	}
	if e, ok := errors.AsType[*Error](err); ok {
		return e
	}
	return &Error{Kind: kind, Where: path, Err: Bare(err)}
}

// Bare is an error of the system without the paths that it repeats: of a move, one is
// where unfinished work lies.
func Bare(err error) error {
	if pathErr, ok := errors.AsType[*fs.PathError](err); ok {
		return pathErr.Err
	}
	if linkErr, ok := errors.AsType[*os.LinkError](err); ok {
		return linkErr.Err
	}
	return err
}

// CutOff reports whether data ended too early: not because what it is read from failed, such
// as a connection that was lost.
func CutOff(err error) bool {
	return err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) && Of(err) != Unreadable
}

// Of returns the kind of err, Other when it has none.
func Of(err error) Kind {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Kind
	}
	return Other
}

// Known reports whether an error says itself what it is: it has a kind, or is a fault of
// the program. What a decoder says otherwise is damage.
func Known(err error) bool {
	_, ours := errors.AsType[*Panic](err)
	return ours || Of(err) != Other
}
