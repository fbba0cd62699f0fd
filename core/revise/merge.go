package revise

import (
	"bytes"
	"crypto/sha256"
	"hash"
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// content is what came to a path; of a file, the sum of its data.
type content struct {
	kind archive.Kind
	link string
	sum  hash.Hash
}

func (c *content) same(other *content) bool {
	return c.kind == other.kind && c.link == other.link && (c.sum == nil || bytes.Equal(c.sum.Sum(nil), other.sum.Sum(nil)))
}

// merge reports whether what goes to a path came there before, which is refused if it was
// something else. Its data is then to be read through what is returned.
func (t *transfer) merge(e *archive.Entry, path string, data io.Reader) (through io.Reader, again bool, err error) {
	if t.came == nil {
		return data, false, nil
	}
	now := content{kind: e.Kind, link: e.Link}
	if data != nil && e.Kind == archive.File {
		now.sum = sha256.New()
		data = io.TeeReader(data, now.sum)
	}
	first, again := t.came[path]
	if !again {
		t.came[path] = now
		return data, false, nil
	}
	if now.sum != nil {
		_, err = io.Copy(io.Discard, data)
	}
	if err == nil && !first.same(&now) {
		err = twoAt(path)
	}
	return nil, true, err
}

func twoAt(path string) error {
	return fault.New(fault.Refused, "two of its entries would have the path %s", path).Suggest(fault.PeelLess)
}
