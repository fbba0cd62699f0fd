package receipt

import (
	"path/filepath"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// each goes through the units that count: those that did not fail, but for what a later run
// made afresh in the same folder, and archives that were made again. Of an archive that was
// made, it tells the parts.
func (r *Receipts) each(visit func(e *entry, made []Part, rows []File) error) error {
	last := map[string]int{} // the latest unit that made a folder afresh, or an archive
	for i := range r.units {
		e := &r.units[i]
		if e.failed || e.undone || !e.made && (e.run == nil || e.run.Options["fresh"] != "true") {
			continue
		}
		var u Unit
		if err := e.whole(&u); err != nil {
			return err
		}
		last[u.makes()] = i
	}
	for i := range r.units {
		e := &r.units[i]
		if e.failed || e.undone {
			continue
		}
		var u Unit
		if len(last) > 0 {
			if err := e.whole(&u); err != nil {
				return err
			}
			if i < last[u.Destination] || e.made && i < last[u.Archive] {
				continue
			}
		}
		rows, err := e.rows()
		if err == nil {
			err = visit(e, u.Parts, rows)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// makes is the archive that it made, or the folder that it made afresh.
func (u *Unit) makes() string {
	if u.Parts != nil {
		return u.Archive
	}
	return u.Destination
}

// Delivered are the files that all runs together left, archives that they made included,
// by their absolute paths: of each the latest.
func (r *Receipts) Delivered() (map[string]File, error) {
	files := map[string]File{}
	err := r.each(func(e *entry, made []Part, rows []File) error {
		for _, p := range made {
			files[p.Path] = File{Kind: fileKind, Archive: p.Path, Type: archive.File.String(), Size: p.Size, Modified: p.Modified, SHA256: p.SHA256}
		}
		for _, f := range rows {
			if e.root != "" {
				files[filepath.Join(e.root, filepath.FromSlash(f.Path))] = f
			}
		}
		return nil
	})
	return files, err
}

// Folders are those that archives went to, without those of whole roots.
func (r *Receipts) Folders() (folders []string, err error) {
	seen := map[string]bool{}
	for i := range r.units {
		e := &r.units[i]
		if e.failed || e.undone || e.root == "" {
			continue
		}
		var u struct {
			Destination string `json:"destination"`
		}
		if err := e.whole(&u); err != nil {
			return nil, err
		}
		if u.Destination != e.root && !seen[u.Destination] {
			seen[u.Destination] = true
			folders = append(folders, u.Destination)
		}
	}
	return folders, nil
}

// Contents are the files that all runs together delivered or packed, by their paths
// below the root or in the archive. The same path below several roots, or in several
// archives, is of kind fault.Usage: nobody could tell which one is meant.
func (r *Receipts) Contents() (map[string]File, error) {
	files, of := map[string]File{}, map[string]string{}
	err := r.each(func(e *entry, _ []Part, rows []File) error {
		for _, f := range rows {
			where := e.root
			if where == "" {
				where = f.Archive
			}
			if other, known := of[f.Path]; known && other != where {
				return fault.New(fault.Usage, "it has %s of both %s and %s", f.Path, other, where).Advise("keep a receipt for each of them")
			}
			files[f.Path], of[f.Path] = f, where
		}
		return nil
	})
	return files, err
}
