// Package demo makes the demo data by code: the archives of Tidewatch, a
// made-up network of tide gauges. The same bytes come out every time, but for
// the archive that is locked.
package demo

import (
	"bytes"
	_ "embed" // the job file
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
)

// Stations of the network.
var Stations = []string{"Harrow Sound", "Pell Point", "Osk Bay", "Merrin Deep", "Gull Ness"}

// Days is how many days of May 2026 each station has sent.
const Days = 12

// Damaged is the archive that is broken.
const Damaged = "readings/merrin-deep-2026-05-07.zip"

// Disc is the image of a disc.
const Disc = "discs/osk-bay-2025.iso"

// Jobs is the job file.
const Jobs = "month.yaml"

//go:embed month.yaml
var jobs []byte

// marker says that a folder is of our making, and may be made again.
const marker = "tidewatch.txt"

const about = `Tidewatch is a made-up network of tide gauges; this is its demo data.
readings     one archive for each station and day; one of them is damaged
bundles      one archive for each station, with the archives of all its days inside
corrections  two archives that share entry names
survey       a harbour survey in parts: a split ZIP archive, a tar.gz cut into pieces, and a set that lacks a part
discs        the image of a disc that a gauge was read out to
instruments  twelve numbered archives of one suite that belong in one folder, and one about it
old          an archive of 1994, whose names are in the code page of its system
logs         archives of log lines, packed with the dictionary beside them
locked       an archive whose password is in the file beside it
month.yaml   a job file that does the month
example      what the full example of the demo command works on: the same once more, and what came of it
The demo command makes all of these again; what else is here stays.
`

// Example is the folder of the full example, with data of its own: that beside it stays
// as it is.
const Example = "example"

// sources are the folders of the demo data.
var sources = []string{"readings", "bundles", "corrections", "survey", "discs", "instruments", "locked", "logs", "old"}

// Make makes the demo data in a folder: a new one, an empty one, or one that it
// made before. Any other is of kind fault.Refused.
func Make(dir string) error {
	children, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Writing(dir, err)
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); len(children) > 0 && err != nil {
		return fault.At(dir, fault.New(fault.Refused, "there are files in it that are not of the demo").
			Advise("name a folder that does not exist yet"))
	}
	for _, name := range slices.Concat(sources, []string{Example, Jobs, marker}) { // what somebody else put there stays
		if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
			return fault.Writing(dir, err)
		}
	}
	for _, sub := range sources {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o777); err != nil {
			return fault.Writing(dir, err)
		}
	}
	for path, data := range Files() {
		if err := os.WriteFile(filepath.Join(dir, filepath.FromSlash(path)), data, 0o666); err != nil {
			return fault.Writing(path, err)
		}
	}
	if err := makeSurvey(filepath.Join(dir, "survey")); err != nil {
		return err
	}
	return arrived(dir, time.Now().Add(-time.Hour))
}

// arrived makes all archives as old as if they had come in at that time: none is still arriving.
func arrived(dir string, at time.Time) error {
	for _, sub := range sources {
		children, err := os.ReadDir(filepath.Join(dir, sub))
		if err != nil {
			return fault.Reading(sub, err)
		}
		for _, child := range children {
			path := filepath.Join(dir, sub, child.Name())
			if err := os.Chtimes(path, at, at); err != nil {
				return fault.Writing(path, err)
			}
		}
	}
	return nil
}

// Files returns the demo data: content by path.
func Files() map[string][]byte {
	files := map[string][]byte{marker: []byte(about), Jobs: jobs}
	for n, station := range Stations {
		bundle := []file{{"may/", nil}}
		var last time.Time
		for day := 1; day <= Days; day++ {
			r := newReadings(n, day)
			daily := r.archive()
			files["readings/"+r.name()+".zip"] = daily
			bundle = append(bundle, file{"may/" + r.name() + ".zip", bytes.Clone(daily)})
			last = r.day
		}
		files["bundles/"+fileName(station)+".zip"] = pack("bundle.zip", last.AddDate(0, 0, 1), bundle)
	}
	files[Damaged] = damage(files[Damaged])
	for version, name := range []string{"osk bay [v1].zip", "osk bay [v2].zip"} {
		r := newReadings(2, 3)
		r.raise(10 * version)
		files["corrections/"+name] = pack(name, r.day, []file{
			{"levels.csv", r.csv()},
			{"notes [draft].txt", []byte("The gauge was cleaned on the third of May.\n")},
		})
	}
	keys := []file{{"keys.csv", []byte("gauge,key\nTG-11,4711\nTG-12,0815\n")}}
	files["locked/gauges.zip"] = packLocked("gauges.zip", surveyed, keys)
	files["locked/password.txt"] = []byte(Password + "\n")
	files["old/gauges-1994.zip"] = old()
	files[Disc] = disc()
	for path, data := range instruments() {
		files["instruments/"+path] = data
	}
	maps.Copy(files, logs())
	return files
}

// disc has the readings of some days, and a link to the latest.
func disc() []byte {
	list := []ImageFile{
		{Path: "readme.txt", Data: []byte("Osk Bay, read out at the gauge in May 2026.\n"), Modified: surveyed},
		{Path: "latest.csv", Link: "/levels/2026-05-06.csv", Modified: surveyed},
	}
	for day := 1; day <= 6; day++ {
		r := newReadings(2, day)
		list = append(list, ImageFile{Path: "levels/" + r.day.Format(time.DateOnly) + ".csv", Data: r.csv(), Modified: r.day})
	}
	return Image(list, Joliet|RockRidge)
}

// damage turns one byte of the first entry's data.
func damage(archive []byte) []byte {
	archive[len("local header")+1600] ^= 0x55
	return archive
}

// file is an entry of an archive that is being made.
type file struct {
	path string
	data []byte
}

// pack makes an archive in memory, of the format that its name says. A path
// that ends in '/' is a folder.
func pack(name string, when time.Time, files []file) []byte {
	return packWith(archive.WriteOptions{}, name, when, files)
}

// Password opens the locked archive.
const Password = "spring tide"

func packLocked(name string, when time.Time, files []file) []byte {
	return packWith(archive.WriteOptions{Password: Password}, name, when, files)
}

func packWith(o archive.WriteOptions, name string, when time.Time, files []file) []byte {
	var b bytes.Buffer
	f, _ := format.ByName(name)
	w, err := f.NewWriter(&b, o)
	for _, f := range files {
		if err != nil {
			break
		}
		e := archive.Entry{Path: f.path, Modified: when, HasMode: true, Mode: 0o644, Size: int64(len(f.data))}
		if folder, is := strings.CutSuffix(f.path, "/"); is {
			e.Path, e.Kind, e.Mode = folder, archive.Folder, 0o755
		}
		_, err = w.Add(e, bytes.NewReader(f.data))
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic(err) // memory does not fail
	}
	return b.Bytes()
}
