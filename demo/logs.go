package demo

import (
	"bytes"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Dictionary is what the logs were packed with.
const Dictionary = "logs/lines.dict"

// logs are small archives of lines that are much alike, packed with the dictionary beside them.
func logs() map[string][]byte {
	line := func(station string, day, hour int) []byte {
		return fmt.Appendf(nil, "2026-05-%02dT%02d:00Z %s: sensor ok, battery 12.%d V, signal good, sent 288 readings\n", day, hour, station, (day+hour)%10)
	}
	var lines [][]byte
	for hour := range 240 {
		lines = append(lines, line(Stations[hour%len(Stations)], 1+hour/24, hour%24))
	}
	dictionary, err := zstd.BuildDict(zstd.BuildDictOptions{ID: 2026, Contents: lines, History: bytes.Join(lines[:24], nil), Offsets: [3]int{1, 4, 8}, Level: zstd.SpeedFastest})
	if err != nil {
		panic(err) // there are lines enough
	}
	files := map[string][]byte{Dictionary: dictionary}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderDict(dictionary))
	if err != nil {
		panic(err) // the dictionary is right
	}
	for i, station := range Stations[:2] {
		var text bytes.Buffer
		for hour := range 4 {
			text.Write(line(station, 2+i, 6*hour))
		}
		tar := pack("log.tar", time.Date(2026, 5, 2+i, 18, 0, 0, 0, time.UTC), []file{{"sensor.log", text.Bytes()}})
		files["logs/"+fileName(station)+".tar.zst"] = enc.EncodeAll(tar, nil)
	}
	return files
}
