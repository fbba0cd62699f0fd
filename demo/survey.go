package demo

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"widecrate/core/fault"
	"widecrate/core/parts/cut"
)

// Missing is the part that one set of the survey lacks.
const Missing = "survey/currents.tar.gz.002"

// partSize is that of the survey's parts: the least that a split ZIP archive
// may have.
const partSize = 64 << 10

var surveyed = time.Date(2026, 5, 20, 14, 30, 0, 0, time.UTC)

// makeSurvey writes the harbour survey: its soundings in parts.
func makeSurvey(dir string) error {
	work, err := os.MkdirTemp("", "widecrate-")
	if err != nil {
		return fault.Writing(os.TempDir(), err)
	}
	defer os.RemoveAll(work)
	var grids []file
	for n := range 6 {
		grids = append(grids, file{fmt.Sprintf("grids/osk-bay-%d.dat", n+1), soundings(uint64(n))})
	}
	grids = append(grids, file{"survey.txt", []byte("Soundings of the harbour at Osk Bay, in centimetres below chart datum: 200 columns, 150 rows.\n")})
	for _, whole := range []struct {
		name  string
		files []file
		style cut.Style
	}{
		{"harbour.zip", grids, cut.ZIP},
		{"grids.tar.gz", grids, cut.Numbered},
		{"currents.tar.gz", grids[:4], cut.Numbered},
	} {
		path := filepath.Join(work, whole.name)
		if err := os.WriteFile(path, pack(whole.name, surveyed, whole.files), 0o666); err != nil {
			return fault.Writing(path, err)
		}
		if _, err := cut.Split(context.Background(), path, dir, cut.Options{PartSize: partSize, Style: whole.style}, new(atomic.Int64)); err != nil {
			return err
		}
	}
	missing := filepath.Join(dir, filepath.Base(Missing))
	return fault.Writing(missing, os.Remove(missing))
}

// soundings is a grid of depths: a channel between two slopes, rough as a sea
// bed is.
func soundings(seed uint64) []byte {
	const columns, rows = 200, 150
	rough := rand.New(rand.NewPCG(seed, 20))
	var b []byte
	for y := range rows {
		for x := range columns {
			channel := 900 + 500*math.Exp(-math.Pow(float64(x-100)-20*math.Sin(float64(y)/25), 2)/1500)
			b = binary.LittleEndian.AppendUint16(b, uint16(channel)+uint16(rough.IntN(60)))
		}
	}
	return b
}

// instruments are the archives of the suite that the gauges run on: twelve
// numbered ones that share folders, and one about them that is none of these.
func instruments() map[string][]byte {
	made := map[string][]byte{}
	for n := 1; n <= 12; n++ {
		driver := fmt.Sprintf("# driver %d of the Tidewatch gauge suite\nchannel = %d\ninterval_s = 60\n", n, n)
		name := fmt.Sprintf("suite-%d.tar", n)
		made[name] = pack(name, surveyed, []file{
			{"licence.txt", []byte("The suite of the Tidewatch gauges may be used by the stations.\n")}, // the same in each
			{fmt.Sprintf("drivers/channel-%02d.conf", n), []byte(driver)},
			{fmt.Sprintf("firmware/block-%02d.bin", n), soundings(uint64(100 + n))[:4096]},
		})
	}
	made["suite-docs.tar"] = pack("suite-docs.tar", surveyed, []file{{"manual.txt", []byte("How to set up a gauge of the Tidewatch network.\n")}})
	return made
}
