package folder

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

// Times that package os cannot count are set as well, and hidden folders are, where the
// file system keeps such marks.
func TestAttributes(t *testing.T) {
	dir := t.TempDir()
	base, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer base.Close()
	for _, name := range []string{"x", "y"} {
		require.NoError(t, base.Mkdir(name, 0o777))
	}
	attributes := func(name string) *syscall.Win32FileAttributeData {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		return info.Sys().(*syscall.Win32FileAttributeData)
	}
	for _, year := range []int{1970, 2400} {
		want := time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
		require.NoError(t, SetTime(base, "x", want))
		set := attributes("x").LastWriteTime
		assert.Equal(t, filetime(want), windows.Filetime(set), year)
	}
	assert.Equal(t, windows.Filetime{LowDateTime: 1}, filetime(time.Date(1500, 1, 1, 0, 0, 0, 0, time.UTC)))
	assert.Equal(t, windows.NsecToFiletime(1e18), filetime(time.Unix(1e9, 0)))

	name, err := windows.UTF16PtrFromString(filepath.Join(dir, "y"))
	require.NoError(t, err)
	require.NoError(t, windows.SetFileAttributes(name, windows.FILE_ATTRIBUTE_HIDDEN))
	Hide(base, "x")
	assert.Equal(t, attributes("y").FileAttributes, attributes("x").FileAttributes)
}
