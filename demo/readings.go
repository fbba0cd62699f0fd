package demo

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"strings"
	"time"
)

// readings is what one station measures on one day: the water level in
// millimetres above the zero of its gauge, once a minute.
type readings struct {
	station string
	number  int // of the station
	day     time.Time
	levels  []int
	noise   *rand.Rand
}

func newReadings(station, day int) *readings {
	r := &readings{station: Stations[station], number: station,
		day:   time.Date(2026, 5, day, 0, 0, 0, 0, time.UTC),
		noise: rand.New(rand.NewPCG(uint64(station), uint64(day)))}
	const moon, sun = 745.2, 720.0 // minutes of the two half-daily tides
	for minute := range 24 * 60 {
		t := float64((day-1)*24*60 + minute)
		level := 2600 + 1400*math.Sin(2*math.Pi*t/moon+float64(station)) + 450*math.Sin(2*math.Pi*t/sun)
		r.levels = append(r.levels, int(level)+r.noise.IntN(25))
	}
	return r
}

// name is that of the station and the day, fit for a file.
func (r *readings) name() string { return fileName(r.station) + r.day.Format("-2006-01-02") }

func fileName(station string) string { return strings.ReplaceAll(strings.ToLower(station), " ", "-") }

func (r *readings) raise(millimetres int) {
	for i := range r.levels {
		r.levels[i] += millimetres
	}
}

// archive is the daily archive that the station sends.
func (r *readings) archive() []byte {
	files := []file{
		{"levels.csv", r.csv()},
		{"calibration.json", r.calibration()},
		{"gauge.log", r.log()},
		{"charts/", nil},
		{"charts/" + r.name() + ".png", r.chart()},
	}
	switch r.number { // two stations are run from desktop systems that leave clutter
	case 1:
		files = append(files, file{"charts/Thumbs.db", make([]byte, 512)}, file{"desktop.ini", []byte("[ViewState]\r\n")})
	case 4:
		files = append(files, file{".DS_Store", make([]byte, 6148)}, file{"__MACOSX/._levels.csv", make([]byte, 176)})
	}
	return pack("day.zip", r.day.AddDate(0, 0, 1).Add(5*time.Minute), files)
}

func (r *readings) csv() []byte {
	var b bytes.Buffer
	b.WriteString("time,level_mm,quality\n")
	for minute, level := range r.levels {
		fmt.Fprintf(&b, "%s,%d,good\n", r.day.Add(time.Duration(minute)*time.Minute).Format("2006-01-02T15:04Z"), level)
	}
	return b.Bytes()
}

func (r *readings) calibration() []byte {
	b, err := json.MarshalIndent(map[string]any{
		"station": r.station, "gauge": fmt.Sprintf("TG-%02d", 11+r.number), "checked": r.day.Format(time.DateOnly),
		"zero_mm": 12 + r.number, "slope": 1 + float64(r.noise.IntN(40)-20)/10000,
	}, "", "  ")
	if err != nil {
		panic(err) // plain values
	}
	return append(b, '\n')
}

func (r *readings) log() []byte {
	var b bytes.Buffer
	for hour := range 24 {
		fmt.Fprintf(&b, "%s battery %d.%d V, %d samples, sent\n", r.day.Add(time.Duration(hour)*time.Hour).Format(time.RFC3339),
			12, r.noise.IntN(10), 60)
	}
	return b.Bytes()
}

// chart draws the day's levels.
func (r *readings) chart() []byte {
	const width, height, margin = 360, 140, 10
	water, paper, grid := color.RGBA{0x1f, 0x6f, 0xa8, 0xff}, color.RGBA{0xfa, 0xfa, 0xf5, 0xff}, color.RGBA{0xdd, 0xdd, 0xd5, 0xff}
	picture := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{paper, grid, water})
	for x := margin; x < width-margin; x++ {
		for line := range 5 {
			picture.SetColorIndex(x, margin+line*(height-2*margin)/4, 1)
		}
		level := r.levels[(x-margin)*len(r.levels)/(width-2*margin)]
		top := height - margin - level*(height-2*margin)/5200
		for y := max(top, margin); y < min(top+3, height-margin); y++ {
			picture.SetColorIndex(x, y, 2)
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, picture); err != nil {
		panic(err) // memory does not fail
	}
	return b.Bytes()
}
