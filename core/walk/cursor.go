package walk

import (
	"context"
	"io"

	"widecrate/core/archive"
	"widecrate/core/bound"
)

// A Cursor goes through the entries of an open archive in their order, until ctx
// is cancelled, and counts them against a budget; nil: there is none. It gives
// their data the same way for all kinds of archive.
type Cursor struct {
	Archive *Archive

	ctx    context.Context
	budget *bound.Budget
	at     int // the entry that comes next
	entry  archive.Entry
	data   io.ReadCloser // of the entry, opened where it was asked for
}

// Cursor starts before the first entry. An archive that comes in order can be
// gone through once.
func (a *Archive) Cursor(ctx context.Context, budget *bound.Budget) *Cursor {
	return &Cursor{Archive: a, ctx: ctx, budget: budget}
}

// Next moves to the next entry, which is valid until the next call; its number is
// Index. After the last the error is io.EOF.
func (c *Cursor) Next() (e *archive.Entry, err error) {
	c.Close()
	if err := c.ctx.Err(); err != nil {
		return nil, err
	}
	switch {
	case c.Archive.Stream != nil:
		c.entry, err = c.Archive.Stream.Next()
	case c.at == len(c.Archive.Entries()):
		err = io.EOF
	default:
		c.entry = c.Archive.Entries()[c.at]
	}
	if err == nil && c.budget != nil {
		err = c.budget.Count(1)
	}
	if err != nil {
		return nil, err
	}
	c.at++
	return &c.entry, nil
}

// Index is the number of the current entry, from 0.
func (c *Cursor) Index() int { return c.at - 1 }

// Link returns where the current entry, a link, points to.
func (c *Cursor) Link() (string, error) {
	if c.Archive.Reader == nil {
		return c.entry.Link, nil
	}
	return archive.LinkTarget(c.Archive.Reader, c.Index())
}

// Bounded is the data of the current entry within the budget.
func (c *Cursor) Bounded() io.Reader {
	if c.budget == nil {
		return c
	}
	return c.budget.Reader(c.ctx, c)
}

// open makes the data of the current entry readable.
func (c *Cursor) open() (io.Reader, error) {
	if c.Archive.Stream != nil {
		return c.Archive.Stream, nil
	}
	if c.data == nil {
		var err error
		if c.data, err = c.Archive.Open(c.Index()); err != nil {
			return nil, err
		}
	}
	return c.data, nil
}

// Read reads the decoded data of the current entry; see archive.Reader.
func (c *Cursor) Read(p []byte) (int, error) {
	data, err := c.open()
	if err != nil {
		return 0, err
	}
	return data.Read(p)
}

// WriteTo writes what is left of it.
func (c *Cursor) WriteTo(w io.Writer) (int64, error) {
	data, err := c.open()
	if err != nil {
		return 0, err
	}
	return archive.Copy(w, data)
}

// Close lets go of the current entry; the archive stays open.
func (c *Cursor) Close() error {
	if c.data == nil {
		return nil
	}
	err := c.data.Close()
	c.data = nil
	return err
}
