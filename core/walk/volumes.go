package walk

import (
	"bytes"
	"context"
	"io"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// startOfVolume is how much of a volume at an address is looked at.
const startOfVolume = 64 << 10

// volumes are the files of a series whose members are no archives of their own but go on where
// the one before ended; nil: it is none.
func volumes(ctx context.Context, s source.Source) (files []blob.File) {
	others := s.Members()[1:]
	if s.Elsewhere() { // where each is a request, the second has to do
		others = others[:min(1, len(others))]
	}
	if !mayGoOn(s.Members()[0]) || !slices.ContainsFunc(others, func(m source.Source) bool { return goesOn(ctx, m) }) {
		return nil
	}
	for _, m := range s.Members() {
		f, err := m.File(ctx)
		if err != nil || f.Info == nil || m.Set() != nil {
			return nil // the error will be reported
		}
		files = append(files, f)
	}
	return files
}

// mayGoOn reports whether the first member of a series is in a format that has volumes; of an address
// its name tells.
func mayGoOn(m source.Source) bool {
	if m.Address() != nil {
		named, _ := format.ByName(m.Name())
		return named.Continues != nil
	}
	data, err := blob.Open(m.Path)
	if err != nil {
		return false // the error will be reported
	}
	defer data.Close()
	return slices.ContainsFunc(format.All, func(f archive.Format) bool { return f.Continues != nil && f.Identify(data, data.Size()) })
}

// goesOn reports whether a member of a series starts with what the one before began. What cannot be
// read will be reported.
func goesOn(ctx context.Context, m source.Source) bool {
	continues := func(r io.ReaderAt) bool {
		return slices.ContainsFunc(format.All, func(f archive.Format) bool { return f.Continues != nil && f.Continues(r) > 0 })
	}
	if m.Address() == nil {
		data, err := blob.Open(m.Path)
		if err != nil {
			return false
		}
		defer data.Close()
		return continues(data)
	}
	resource, err := m.Address().Open(ctx, startOfVolume)
	if err != nil {
		return false
	}
	in := resource.Reader(ctx)
	defer in.Close()
	start, _ := io.ReadAll(io.LimitReader(in, startOfVolume))
	return continues(bytes.NewReader(start))
}

// openVolumes opens the archive that lies in the volumes of a series.
func openVolumes(ctx context.Context, name string, files []blob.File, o Opening) (_ *Archive, err error) {
	o.Name = name
	set := &parts.Set{Name: name}
	for _, f := range files {
		set.Parts = append(set.Parts, parts.Part{File: f})
	}
	if o.Fetched != "" {
		if set, err = fetchSet(ctx, set, o); err != nil {
			return nil, err
		}
	}
	o.Parts = set.Layout()
	return newArchive(set.Open(), o).openParts()
}

// leaveOutBorders takes out of the data of several files what a file starts with only to say
// that it goes on.
func (a *Archive) leaveOutBorders(f archive.Format) {
	if f.Continues == nil || len(a.rules.Parts) < 2 {
		return
	}
	var gaps []blob.Range
	layout := slices.Clone(a.rules.Parts)
	for i, p := range layout[1:] {
		headers := int64(0)
		if p.Size > 0 {
			headers = min(p.Size, f.Continues(blob.Section(a.data, p.Start, p.Size)))
		}
		if headers > 0 {
			gaps = append(gaps, blob.Range{From: p.Start, To: p.Start + headers})
		}
		layout[i+1].Size -= headers
		layout[i+1].Start = layout[i].Start + layout[i].Size
	}
	if gaps != nil {
		a.data, a.rules.Parts = blob.Without(a.data, gaps), layout
	}
}
