// Package rpm reads RPM packages (Linux Standard Base, Package File Format): a lead, a
// signature, a header with all that is known of the files, and a compressed cpio of
// them. The files are the entries; what the header says of the package, and its scripts,
// are in a folder of their own. The files are checked against the sums in the header.
package rpm

import (
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format/digest"
	"widecrate/core/format/lone"
)

// ControlFolder is where the control data is.
const ControlFolder = "[control]"

// Format is an RPM package. It is only read.
var Format = archive.Format{
	Name:       "rpm",
	Extensions: []string{".rpm"},
	Hardlinks:  true,
	Identify: func(r io.ReaderAt, _ int64) bool {
		var b [len(leadMagic)]byte
		_, err := r.ReadAt(b[:], 0)
		return (err == nil || err == io.EOF) && string(b[:]) == leadMagic
	},
	OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) { return Open(r, size, o) },
}

// Stream goes through the control data, and then through the files.
type Stream struct {
	control []text
	made    time.Time
	files   archive.Stream
	sums    map[string]string
	method  algorithm
	data    io.Reader // of an entry of the control data; nil: of a file
	check   digest.Check
}

// text is an entry of the control data.
type text struct{ name, content string }

// Open reads the headers of the package of size bytes in r.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Stream, error) {
	signature, err := readHeader(r, leadLength, size)
	if err != nil {
		return nil, err
	}
	const align = 8
	h, err := readHeader(r, (signature.end+align-1)/align*align, size)
	if err != nil {
		return nil, err
	}
	paths := pathsOf(h)
	if o.Files, err = filesOf(h, paths); err != nil {
		return nil, err
	}
	s := &Stream{control: controlOf(h), sums: sumsOf(h, paths), method: algorithms[h.number(tagDigestAlgorithm, md5Algorithm)]}
	if built := h.number(tagBuilt, 0); built > 0 {
		s.made = time.Unix(built, 0)
	}
	rest := size - h.end
	payload := io.NewSectionReader(r, h.end, rest)
	if size == blob.Endless {
		rest = size
	}
	s.files, err = lone.OpenCPIO(payload, rest, o)
	return s, err
}

// controlOf are the fields and scripts of a header.
func controlOf(h *header) []text {
	var b strings.Builder
	for _, f := range []struct {
		name string
		tag  uint32
	}{{"Name", tagName}, {"Version", tagVersion}, {"Release", tagRelease}, {"Architecture", tagArchitecture}, {"Summary", tagSummary},
		{"License", tagLicense}, {"URL", tagURL}, {"Description", tagDescription}} {
		if v := h.text(f.tag); v != "" {
			fmt.Fprintf(&b, "%s: %s\n", f.name, strings.ReplaceAll(v, "\n", "\n "))
		}
	}
	control := []text{{"package.txt", b.String()}}
	for _, script := range []struct {
		name string
		tag  uint32
	}{{"before-install", tagBeforeInstall}, {"after-install", tagAfterInstall}, {"before-removal", tagBeforeRemoval}, {"after-removal", tagAfterRemoval}} {
		if v := h.text(script.tag); v != "" {
			control = append(control, text{script.name, v})
		}
	}
	return control
}

// pathsOf are the paths of the files, without the slash in front; empty where the header
// has none.
func pathsOf(h *header) []string {
	names, folders, in := h.texts(tagNames), h.texts(tagFolders), h.numbers(tagFolderOf)
	for i, name := range names {
		if names[i] = ""; i < len(in) && in[i] >= 0 && in[i] < int64(len(folders)) {
			names[i] = strings.TrimPrefix(folders[in[i]]+name, "/")
		}
	}
	return names
}

// sumsOf are the sums of the files by their paths.
func sumsOf(h *header, paths []string) map[string]string {
	sums := h.texts(tagDigests)
	byPath := make(map[string]string, len(sums))
	for i, sum := range sums {
		if sum != "" && i < len(paths) && paths[i] != "" {
			byPath[paths[i]] = strings.ToLower(sum)
		}
	}
	return byPath
}

// isGhost is the flag of a file that the package owns and does not bring.
const isGhost = 1 << 6

// filesOf is what the header says of the files: where some have 4 GiB and more, the cpio
// does not. Of several names of a file, the last one has the data.
func filesOf(h *header, paths []string) ([]archive.PackageFile, error) {
	sizes := h.numbers(tagLargeSizes)
	if sizes == nil {
		return nil, nil
	}
	modes, times, flags, devices, inodes := h.numbers(tagModes), h.numbers(tagTimes), h.numbers(tagFlags), h.numbers(tagDevices), h.numbers(tagInodes)
	n := len(paths)
	if least := min(len(sizes), len(modes), len(times), len(flags), len(devices), len(inodes)); least < n {
		return nil, fault.New(fault.Damaged, "its header lists %d files, and describes %d", n, least)
	}
	files, last, names := make([]archive.PackageFile, n), map[uint64]int{}, map[uint64]uint64{}
	for i, p := range paths {
		if sizes[i] < 0 || sizes[i] > archive.LargestSize || p == "" {
			return nil, fault.New(fault.Damaged, "its header says of file %d that its path is %q, and its size %d", i, p, sizes[i])
		}
		f := archive.PackageFile{Path: p, Mode: uint32(modes[i]), Modified: times[i], Size: sizes[i], Inode: uint64(devices[i])<<32 | uint64(inodes[i])}
		switch kind := archive.KindOfMode(f.Mode); {
		case kind == archive.File && flags[i]&isGhost == 0:
			last[f.Inode] = i
			names[f.Inode]++
		case kind != archive.Symlink:
			f.Size = 0
		}
		files[i] = f
	}
	for i := range files {
		if f := &files[i]; archive.KindOfMode(f.Mode) == archive.File {
			if f.Links = names[f.Inode]; last[f.Inode] != i {
				f.Size = 0
			}
		}
	}
	return files, nil
}

// Next moves to the next entry; see archive.Stream.
func (s *Stream) Next() (archive.Entry, error) {
	s.data, s.check = nil, digest.Check{}
	if len(s.control) > 0 {
		t := s.control[0]
		s.control, s.data = s.control[1:], strings.NewReader(t.content)
		return archive.Entry{Path: path.Join(ControlFolder, t.name), Method: "store", Modified: s.made, Size: int64(len(t.content)), Packed: archive.Unknown}, nil
	}
	e, err := s.files.Next()
	if err != nil {
		return e, err
	}
	e.Path = strings.TrimPrefix(e.Path, "./")
	if e.Kind == archive.Hardlink {
		e.Link = strings.TrimPrefix(e.Link, "./")
	}
	if want, has := s.sums[strings.TrimPrefix(e.Path, "/")]; has && e.Kind == archive.File && s.method.new != nil {
		s.check, e.Summed = digest.Check{Name: s.method.name, Hash: s.method.new(), Want: want}, true
	}
	return e, nil
}

// Read reads the data of the current entry.
func (s *Stream) Read(p []byte) (int, error) {
	if s.data != nil {
		return s.data.Read(p)
	}
	n, err := s.files.Read(p)
	return n, s.check.Take(p[:n], err)
}

// Remarks say what the files are checked against.
func (s *Stream) Remarks() []archive.Remark {
	if len(s.sums) > 0 && s.method.new != nil {
		return []archive.Remark{{Text: "its files are checked against the " + s.method.name + " sums in it"}}
	}
	return nil
}

// Close lets go of the files.
func (s *Stream) Close() error { return s.files.Close() }
