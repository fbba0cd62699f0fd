package extract

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/place"
	"widecrate/core/report"
)

// failure is why a source failed: something is wrong with it, and not with the disk, the
// destination or the request. nil: nothing is, or it was delivered somewhere.
func (g *going) failure() (why error) {
	for _, u := range g.units {
		switch fault.Of(u.after.failure) {
		case fault.Damaged, fault.Password, fault.Unsafe, fault.Incomplete:
			why = u.after.failure
		default:
			return nil
		}
	}
	return why
}

// setAside moves the files of a source that failed, with the reason beside them.
func (r *run) setAside(g *going, why error, route *disposal.Route, unready error) {
	s := g.units[0].source
	d := &report.Disposal{Source: s.Path, Failed: true, DryRun: r.DryRun}
	defer func() { r.tell(d) }()
	files := g.files
	if s.Set != nil && len(files) == 0 { // of a set that is not complete, what there is
		for _, path := range s.Set.Present() {
			f, err := blob.Find(path)
			if err != nil {
				d.Err = err
				return
			}
			files = append(files, f)
		}
	}
	switch {
	case unready != nil:
		d.Kept = "the receipt could not be written"
		return
	case len(files) == 0:
		d.Kept = "it is no file"
		return
	}
	r.leave(d, route, files, func(to []string) error { return moveWithReason(route, files, to, why) })
	if d.After() == "removed" { // the same bytes are there
		d.To = filepath.Join(route.To(files[0].Path, route.Begun), filepath.Base(files[0].Path))
	}
}

// moveWithReason writes the reason first: an archive without one would be a riddle.
func moveWithReason(route *disposal.Route, files []blob.File, to []string, why error) error {
	reason := ""
	if to[0] != "" { // else the same lies there already
		var err error
		if reason, err = writeReason(to[0], why); err != nil {
			return err
		}
	}
	err := route.Sources(files, to)
	if err != nil && reason != "" {
		_ = os.Remove(reason) // the first error says what is wrong
	}
	return err
}

// reasonSuffix is that of the file with the reason.
const reasonSuffix = ".reason.txt"

func writeReason(beside string, why error) (path string, err error) {
	text := fmt.Sprintf("%s\n%v\n", time.Now().UTC().Format(time.RFC3339), why)
	if e, ok := errors.AsType[*fault.Error](why); ok {
		if do := (fault.Wording{}).Advice(e); do != "" {
			text += do + "\n"
		}
	}
	for n := 1; ; n++ {
		path = filepath.Join(filepath.Dir(beside), place.Numbered(filepath.Base(beside)+reasonSuffix, n))
		out, err := newfile.Create(path, false)
		if errors.Is(err, fault.Refused) {
			continue
		}
		if err != nil {
			return "", err
		}
		if _, err = out.Write([]byte(text)); err != nil {
			return "", errors.Join(err, out.Discard())
		}
		return path, out.Commit()
	}
}
