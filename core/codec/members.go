package codec

import (
	"path"
	"strings"
	"sync"

	"widecrate/core/fault"
)

// A Member of a gzip stream starts a file of its own: its header has another name than those
// before it.
type Member struct {
	At     int64 // in the decoded data
	Header GzipHeader
}

// Members are those that were decoded and not taken yet. A decoder runs ahead on a goroutine of
// its own.
type Members struct {
	mu     sync.Mutex
	list   []Member
	memory int
	name   string // the last one
}

// mostMembers bounds them, in bytes of memory.
const mostMembers = 64 << 20

// Next is the one that comes next.
func (m *Members) Next() (Member, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.list) == 0 {
		return Member{}, false
	}
	return m.list[0], true
}

// Take lets go of the one that Next returns.
func (m *Members) Take() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.memory -= m.list[0].size()
	m.list = m.list[1:]
}

// note adds a member that says another name than the one before.
func (m *Members) note(at int64, h GzipHeader) error {
	name := h.FileName()
	if name == "" || name == m.name {
		return nil
	}
	m.name = name
	m.mu.Lock()
	defer m.mu.Unlock()
	added := Member{at, h}
	m.list = append(m.list, added)
	if m.memory += added.size(); m.memory > mostMembers {
		return fault.New(fault.Unsafe, "it has too many members with next to no data")
	}
	return nil
}

func (m Member) size() int { return len(m.Header.Name) + 64 }

// FileName is its name, unless that is not to be believed, as one with folders.
func (h GzipHeader) FileName() string {
	if name := h.Name; path.Base(name) == name && name != "." && name != ".." && !strings.ContainsAny(name, `\`) {
		return name
	}
	return ""
}
