package extract

import (
	"context"
	"io"
	"path/filepath"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// unit is one archive on its way.
type unit struct {
	index   int
	target  place.Target
	root    *openRoot
	outcome Outcome
	started time.Time

	file   *source.File
	reader archive.Reader
	kept   []int // entries, by their index in the archive
	stage  *stage.Unit
	wanted []int // indices into kept of the entries whose data is needed
	bytes  int64 // claimed size of the wanted entries

	// Under the lock of the engine:
	claimed int // wanted entries that were handed out
	pending int // workers that are busy with the unit
	err     error
	errAt   int // index into wanted
}

// open opens the archive, chooses its entries, and begins to stage them.
func (u *unit) open(e *engine) error {
	u.started = time.Now()
	err := u.outcome.Source.Err
	if err != nil {
		return err
	}
	if u.file, err = u.outcome.Source.Open(); err != nil {
		return err
	}
	if u.reader, err = format.Open(u.file, u.file.Size); err != nil {
		return err
	}
	items, err := u.choose(e.Selection)
	if err != nil || len(items) == 0 {
		return err
	}
	root, err := e.useRoot(u)
	if err != nil {
		return err
	}
	if u.stage, err = root.Begin(u.target.Folder, items, e.Clash); err != nil {
		return err
	}
	for k, i := range u.kept {
		if u.stage.Wanted(k) {
			u.wanted = append(u.wanted, k)
			u.bytes += u.reader.Entries()[i].Size
		}
	}
	return nil
}

// choose finds the entries to keep and their places.
func (u *unit) choose(selection *choose.Selection) ([]stage.Item, error) {
	var items []stage.Item
	entries := u.reader.Entries()
	for i := range entries {
		entry := &entries[i]
		verdict := selection.Judge(entry)
		if verdict == choose.Kept && entry.Kind > archive.Hardlink {
			verdict = choose.Special
		}
		if entry.Kind != archive.Folder {
			u.outcome.Entries++
			u.outcome.LeftOut[verdict]++
		}
		if verdict != choose.Kept {
			continue
		}
		item := stage.Item{Entry: *entry, Name: entry.Path}
		var err error
		if item.Path, err = place.Clean(entry.Path); err != nil {
			return nil, fault.At(entry.Path, err)
		}
		if item.Path == "." {
			continue
		}
		if entry.Kind == archive.Symlink {
			if item.Link, err = archive.LinkTarget(u.reader, i); err == nil {
				err = place.CheckLink(item.Path, item.Link)
			}
			if err != nil {
				return nil, fault.At(entry.Path, err)
			}
		}
		items, u.kept = append(items, item), append(u.kept, i)
	}
	return items, nil
}

// A worker claims this much at a time: enough that handing out costs nothing,
// little enough that two share a small archive.
const (
	claimEntries = 64
	claimBytes   = 1 << 20
)

// claim hands out the next wanted entries: those from from up to to.
func (u *unit) claim(ctx context.Context) (from, to int) {
	if u.err != nil || ctx.Err() != nil {
		return u.claimed, u.claimed
	}
	from = u.claimed
	entries := u.reader.Entries()
	for size := int64(0); u.claimed < len(u.wanted) && u.claimed-from < claimEntries && size < claimBytes; u.claimed++ {
		size += entries[u.kept[u.wanted[u.claimed]]].Size
	}
	return from, u.claimed
}

// write stages the wanted entries from up to to. With an error it tells at
// which one.
func (u *unit) write(ctx context.Context, from, to int) (int, error) {
	hand := u.stage.Hand()
	defer hand.Close()
	for n := from; n < to; n++ {
		k := u.wanted[n]
		err := hand.Write(k, func(w io.Writer) error {
			data, err := u.reader.Open(u.kept[k])
			if err != nil {
				return err
			}
			defer data.Close()
			return copyAll(ctx, w, data)
		})
		if err != nil {
			return n, fault.At(u.reader.Entries()[u.kept[k]].Path, err)
		}
	}
	return to, nil
}

// Data is written in pieces of this size, fewer system calls for most files
// than any other choice.
const piece = 256 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}

// copyAll copies until the end of data, or until ctx is cancelled.
func copyAll(ctx context.Context, w io.Writer, data io.Reader) error {
	block := pieces.Get().(*[piece]byte)
	defer pieces.Put(block)
	for {
		n, err := io.ReadFull(data, block[:])
		if n > 0 {
			if _, err := w.Write(block[:n]); err != nil {
				return err
			}
		}
		switch {
		case err == io.EOF, err == io.ErrUnexpectedEOF:
			return nil
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		}
	}
}

// settle commits what was staged, or clears it away after a failure, and fills
// in the outcome.
func (u *unit) settle(e *engine) {
	err := u.err
	if e.ctx.Err() != nil {
		err = e.ctx.Err()
	}
	if u.stage != nil {
		var actions []stage.Action
		if err == nil && e.DryRun {
			actions, err = u.stage.Preview()
		} else if err == nil {
			actions, err = u.stage.Commit()
		}
		if err == nil {
			u.fillIn(actions)
		} else if discarded := u.stage.Discard(); discarded != nil {
			err = discarded
		}
	}
	if u.reader != nil {
		u.reader.Close()
	}
	if u.file != nil {
		u.file.Close()
	}
	if err != u.outcome.Source.Err {
		err = fault.At(u.outcome.Source.Path, err)
	}
	u.outcome.Err = err
	u.outcome.Took = time.Since(u.started)
	e.letGo(u)
	u.reader, u.stage, u.kept, u.wanted = nil, nil, nil, nil
}

func (u *unit) fillIn(actions []stage.Action) {
	entries := u.reader.Entries()
	u.outcome.Placed = make([]Placed, len(u.kept))
	for k, i := range u.kept {
		entry := &entries[i]
		cleaned, _ := place.Clean(entry.Path) // it was clean before
		u.outcome.Placed[k] = Placed{entry.Path, filepath.Join(u.outcome.Target, filepath.FromSlash(cleaned)),
			entry.Kind, entry.Size, actions[k]}
		if entry.Kind == archive.File && (actions[k] == stage.Added || actions[k] == stage.Replaced) {
			u.outcome.Bytes += entry.Size
		}
	}
}
