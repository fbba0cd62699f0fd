package cli

import (
	"context"
	"io"
	"os"
	"sync"
)

// An input is standard input that can be interrupted: a read that waits ends with the context.
// What is read then is lost, as nobody wants it any more.
type input struct {
	ctx   context.Context
	from  io.Reader
	start sync.Once
	want  chan []byte // buffers to be filled
	come  chan arrived
	left  []byte // of the last one that was
	free  []byte
	err   error
}

// arrived is what was read into a buffer.
type arrived struct {
	buffer []byte
	n      int
	err    error
}

const inputSize = 128 << 10

// standardInput is that of the process. A file never waits, and is read as it is.
func standardInput(ctx context.Context) io.Reader {
	if info, err := os.Stdin.Stat(); err == nil && info.Mode().IsRegular() {
		return os.Stdin
	}
	return &input{ctx: ctx, from: os.Stdin}
}

func (in *input) Read(p []byte) (int, error) {
	in.start.Do(func() {
		in.want, in.come = make(chan []byte, 2), make(chan arrived, 2)
		go in.fill()
		in.want <- make([]byte, inputSize)
		in.want <- make([]byte, inputSize)
	})
	for len(in.left) == 0 {
		if in.err != nil {
			return 0, in.err
		}
		if in.free != nil {
			in.want <- in.free // there is room for both
			in.free = nil
		}
		select {
		case <-in.ctx.Done():
			in.err = in.ctx.Err()
		case got := <-in.come:
			in.left, in.free, in.err = got.buffer[:got.n], got.buffer, got.err
		}
	}
	if err := in.ctx.Err(); err != nil {
		return 0, err
	}
	n := copy(p, in.left)
	in.left = in.left[n:]
	return n, nil
}

// fill reads ahead, until the end.
func (in *input) fill() {
	for buffer := range in.want {
		n, err := in.from.Read(buffer)
		in.come <- arrived{buffer, n, err}
		if err != nil {
			return
		}
	}
}
