package revise

import (
	"path/filepath"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// target is the path of a new archive, and the one that it would have without a number.
type target struct{ path, asked string }

// targets are the paths of the new archives: named like the old ones, with the
// extension of the format.
func (c *Conversion) targets() ([]target, error) {
	targets := make([]target, len(c.Sources))
	taken := map[string]string{}
	for i, s := range c.Sources {
		if s.Err() != nil {
			continue
		}
		dir := c.Placement.Into
		if dir == "" && s.Elsewhere() {
			return nil, fault.At(s.Path, fault.New(fault.Usage, "it lies in no folder on disk that its archive could go to, so the destination has to be given").Suggest(fault.NameDestination))
		}
		if dir == "" {
			dir = filepath.Dir(s.Path)
		} else if s.Sub != "" {
			dir = storage.Join(dir, s.Sub)
		}
		o := c.Output
		name, err := place.Name(place.Stem(s.Name()) + o.Format.Extensions[0])
		if err == nil {
			err = place.Holds(name)
		}
		if err != nil {
			return nil, fault.At(s.Path, err)
		}
		o.Archive = storage.Join(dir, name)
		path, err := o.Target(taken)
		if err != nil {
			return nil, err
		}
		if other, clash := taken[path]; clash {
			return nil, fault.New(fault.Refused, "%s and %s would both become %s", other, s.Path, path).
				Suggest(fault.NumberThem)
		}
		taken[path] = s.Path
		targets[i] = target{path, storage.Join(storage.Dir(path), name)}
	}
	return targets, nil
}

// guard finds the new archives that would take the place of a source, or of one of its
// parts, before anything is done.
func (c *Conversion) guard(targets []target) error {
	c.taken = make([]error, len(targets))
	sources := map[any]string{} // by what they are
	for i := range c.Sources {
		for _, path := range append(c.Sources[i].OnDisk(), c.Sources[i].Path) {
			if id := storage.ID(path); id != nil {
				sources[id] = path
			}
		}
	}
	for i, target := range targets {
		if target.path == "" {
			continue
		}
		o := c.Output
		names, err := o.Takes(target.path)
		if err != nil {
			return err
		}
		for _, name := range names {
			if of := sources[storage.ID(name)]; of != "" {
				c.taken[i] = fault.New(fault.Refused, "it would take the place of %s, which is a source", of).Suggest(fault.ConvertElsewhere)
			}
		}
	}
	return nil
}
