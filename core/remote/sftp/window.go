package sftp

import "sync"

// What is under way on a connection, each way: blocks of the size that every server takes in a
// packet (section 3 of the protocol), and enough of them for a fast line that is far away.
const (
	block       = 32 << 10
	blocks      = 128
	firstBlocks = 8
)

var buffers = sync.Pool{New: func() any { return new([block]byte) }}

// A window bounds the blocks that are under way on a connection: few at first, and as many more as
// come to their end. On a line that breaks again and again, some of them do, then.
type window struct {
	mu    sync.Mutex
	room  sync.Cond
	under int
	more  int // than firstBlocks
}

func (w *window) enter() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.room.L = &w.mu
	for w.under >= firstBlocks+w.more {
		w.room.Wait()
	}
	w.under++
}

func (w *window) leave(done bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.under--
	if done && firstBlocks+w.more < blocks {
		w.more++
	}
	w.room.Broadcast()
}
