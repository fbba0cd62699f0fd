package page

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	visibleRows = `Array.from(document.querySelectorAll('#archives tbody tr')).filter(r => !r.hidden).length`
	topRow      = `document.querySelector('#archives tbody tr').cells[0].textContent`
)

// search types into the box of a page.
func (b *browser) search(text string) any {
	b.eval(fmt.Sprintf(`(() => { const box = document.querySelector('input[type=search]'); box.value = %q; box.dispatchEvent(new Event('input')); })()`, text))
	return b.eval(visibleRows)
}

// sort clicks on the title of a column, from 1.
func (b *browser) sort(column int) any {
	b.eval(fmt.Sprintf(`document.querySelector('#archives th:nth-child(%d) button').click()`, column))
	return b.eval(topRow)
}

// The page about a run can be sorted and searched, asks for nothing from anywhere, and
// shows what is in archives as text, whatever it is.
func TestReportPage(t *testing.T) {
	dir := tidewatch(t)
	evil := `<script>alert(1)</script>"'&.zip`
	if runtime.GOOS == "windows" {
		evil = "'&{1}.zip" // no other can be in a name
	}
	pack(t, filepath.Join(dir, "more", evil), `<img src=x onerror=alert(2)>.csv`, "level")
	_, _, code := run(t, dir, "extract", "readings", filepath.Join("more", evil), "--into", "landing", "--report", "page.html", "-q")
	require.Equal(t, 7, code)
	html, err := os.ReadFile(filepath.Join(dir, "page.html"))
	require.NoError(t, err)
	assert.NotContains(t, string(html), "<script>alert")
	assert.NotContains(t, string(html), "<img")

	b := open(t, filepath.Join(dir, "page.html"))
	assert.Equal(t, "60 archives unpacked, 1 failed", b.eval("document.querySelector('h1').textContent"))
	assert.EqualValues(t, 1, b.eval("document.querySelectorAll('#failures li').length"))
	assert.Equal(t, "more/"+evil, b.sort(1))
	assert.Equal(t, "readings/pell-point-2026-05-12.zip", b.sort(1))
	assert.Equal(t, "readings/merrin-deep-2026-05-07.zip", b.sort(3))
	assert.EqualValues(t, 1, b.search("osk 05-03"))
	assert.EqualValues(t, 1, b.search("FAILED"))
	assert.EqualValues(t, 61, b.search(""))
	assert.Empty(t, b.said)
}

// Ten thousand archives are still a page that opens and is searched.
func TestReportPageOfMany(t *testing.T) {
	if testing.Short() {
		t.Skip("many archives")
	}
	t.Parallel()
	dir := t.TempDir()
	for i := range 10_000 {
		pack(t, filepath.Join(dir, "in", fmt.Sprintf("day-%05d.zip", i)), "levels.csv", fmt.Sprint(i))
	}
	_, stderr, code := run(t, dir, "verify", "in", "--report", "page.html", "-q")
	require.Zero(t, code, stderr)
	b := open(t, filepath.Join(dir, "page.html"))
	assert.Equal(t, "in/day-00000.zip", b.sort(4))
	assert.EqualValues(t, 1, b.search("09999"))
	assert.Empty(t, b.said)
}
