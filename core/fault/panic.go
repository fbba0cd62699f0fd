package fault

import (
	"fmt"
	"io"
	"runtime/debug"
)

// A Panic is a fault of the program itself, met while one thing was dealt with.
type Panic struct {
	Value any
	Stack []byte // where
}

func (p *Panic) Error() string { return fmt.Sprintf("this is a fault of ours: %v", p.Value) }

// Catch makes an error of a panic in the function that defers it: of kind Other, with a
// Panic in it. What is dealt with fails, and the rest goes on.
func Catch(err *error) {
	if v := recover(); v != nil {
		*err = New(Other, "%w", &Panic{v, debug.Stack()}).Advise("please report it, with this archive if you can; -v shows where it is")
	}
}

// Guard calls a function, and catches a panic in it.
func Guard(do func() error) (err error) {
	defer Catch(&err)
	return do()
}

// Guarded reads from r, and catches panics: for those who read on a goroutine of their own.
func Guarded(r io.Reader) io.Reader { return guarded{r} }

type guarded struct{ r io.Reader }

func (g guarded) Read(p []byte) (n int, err error) {
	defer Catch(&err)
	return g.r.Read(p)
}
