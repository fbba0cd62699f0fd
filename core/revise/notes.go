package revise

import (
	"fmt"

	"widecrate/core/archive"
)

// notes count what was done, and what could not be kept.
type notes struct {
	packed, repacked int
	special          int
	subsecond        int
	unlocked         int
	clamped          int // times that the format cannot hold
	whole            int // files that were sparse
	setID            int
	owners, comments int
	comment          bool // that of the archive is lost
	attributes       int
	times            int               // of access, change or creation
	links            map[string]string // hard links to what has passed by: path, target
}

// lose counts what is recorded of an entry that is packed again.
func (n *notes) lose(e *archive.Entry) {
	for _, count := range []struct {
		to  *int
		had bool
	}{{&n.whole, e.Holes > 0}, {&n.setID, e.SetID}, {&n.owners, e.Also&archive.Owner != 0}, {&n.comments, e.Also&archive.Comment != 0},
		{&n.attributes, e.Also&archive.Attributes != 0}, {&n.times, e.Also&archive.Times != 0}} {
		if count.had {
			*count.to++
		}
	}
}

// lost says what the new archive cannot hold, for people.
func (n *notes) lost() []string {
	var said []string
	say := func(count int, one, many string) {
		switch {
		case count == 1:
			said = append(said, "1 "+one)
		case count > 1:
			said = append(said, fmt.Sprintf("%d %s", count, many))
		}
	}
	say(n.special, "device or pipe is left out", "devices and pipes are left out")
	say(n.subsecond, "time lost its fraction of a second", "times lost their fractions of a second")
	say(n.clamped, "time lies beyond what it can hold, and became the nearest", "times lie beyond what it can hold, and became the nearest")
	say(n.whole, "sparse file is stored with all its zeros", "sparse files are stored with all their zeros")
	say(n.setID, "file lost the rights of its owner or group", "files lost the rights of their owner or group")
	say(n.owners, "entry lost its user and group", "entries lost their user and group")
	if n.comment {
		said = append(said, "the comment of the archive is lost")
	}
	say(n.comments, "entry lost its comment", "entries lost their comments")
	say(n.attributes, "entry lost its extended attributes", "entries lost their extended attributes")
	say(n.times, "entry lost its times of access or creation", "entries lost their times of access or creation")
	say(len(n.links), "hard link became a file of its own", "hard links became files of their own")
	say(n.unlocked, "entry is no longer locked", "entries are no longer locked")
	return said
}
