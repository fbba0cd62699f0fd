package page

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Many archives are drawn by how they are spread; where they are alike, there is nothing to draw.
func TestSpread(t *testing.T) {
	values := func(size func(i int64) int64) map[string]int64 {
		of := map[string]int64{}
		for i := range int64(40) {
			of[fmt.Sprintf("%02d.zip", i)] = size(i)
		}
		return of
	}
	alike := spread(values(func(i int64) int64 { return 1000 + i }))
	assert.Empty(t, alike.Bars)
	assert.Equal(t, "All of 40 bring about the same, 1000 B to 1.0 KiB.", alike.Rest)

	even := spread(values(func(i int64) int64 { return 1000 + 50*i }))
	assert.Len(t, even.Bars, 10)
	assert.Equal(t, bar{"1000 B to 1.2 KiB", "4 archives", 100}, even.Bars[0])

	wide := spread(values(func(i int64) int64 { return 1 << (i % 20) }))
	assert.Equal(t, bar{"0 B to 1.0 KiB", "20 archives", 100}, wide.Bars[0])
	assert.Equal(t, bar{"512 KiB to 1.0 MiB", "2 archives", 10}, wide.Bars[len(wide.Bars)-1])
	assert.Contains(t, wide.Rest, "39.zip: 512 KiB")
}
