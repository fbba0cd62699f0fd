package walk

import (
	"context"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/format"
	"widecrate/core/parts"
	"widecrate/core/source"
)

// volumes are the files of a series whose members are no archives of their own but go on where
// the one before ended; nil: it is none.
func volumes(ctx context.Context, s source.Source) []blob.File {
	files, err := s.Files(ctx)
	if err != nil || len(files) != len(s.Members) {
		return nil // the error will be reported
	}
	goesOn := func(f blob.File) bool {
		data, err := f.Data()
		if err != nil {
			return false
		}
		defer data.Close()
		return slices.ContainsFunc(format.All, func(f archive.Format) bool { return f.Continues != nil && f.Continues(data) > 0 })
	}
	for i, f := range files[1:] {
		named, _ := format.ByName(s.Members[i+1].Name())
		if (!f.Remote || named.Continues != nil) && goesOn(f) { // a server is only asked where that is likely
			return files
		}
	}
	return nil
}

// openVolumes opens the archive that lies in the volumes of a series.
func openVolumes(name string, files []blob.File, o Opening) (*Archive, error) {
	o.Name = name
	set := parts.Set{Name: name}
	for _, f := range files {
		set.Parts = append(set.Parts, parts.Part{File: f})
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
