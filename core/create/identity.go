package create

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"

	"widecrate/core/fault"
)

// identity stands for all that goes into an archive, as it is on disk, and for the path
// of the archive: files by size and time, and not by their contents. It is empty where
// something comes from a stream.
func (c *collector) identity() (string, error) {
	asked, err := filepath.Abs(cmp.Or(c.asked, c.Archive))
	if err != nil {
		return "", fault.Writing(c.Archive, err)
	}
	sum := sha256.New()
	fmt.Fprintf(sum, "%q %v\n", asked, c.Epoch)
	for i := range c.found {
		it := &c.found[i]
		switch {
		case it.stream != nil:
			return "", nil
		case it.info == nil:
			fmt.Fprintf(sum, "%q text %q\n", it.entry.Path, it.text)
		default:
			size, time := it.info.Size(), it.info.ModTime().UnixNano()
			if it.info.IsDir() { // they change with all that comes and goes, also with what is left out
				size, time = 0, 0
			}
			fmt.Fprintf(sum, "%q %d %q %q %d %d %v\n", it.entry.Path, it.entry.Kind, it.entry.Link, it.path, size, time, it.info.Mode())
		}
	}
	return hex.EncodeToString(sum.Sum(nil)[:16]), nil
}
