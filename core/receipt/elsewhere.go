package receipt

import (
	"errors"
	"io"
	"os"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/newfile"
)

// An away is a receipt at an address: what was there, with the lines of this run after it, on this
// machine. It is sent whole, and takes the place of what was there when it was read.
type away struct {
	sites newfile.Sites
	path  string
	old   newfile.Old
	base  int64 // bytes of file that were there
}

// fetch gets what is there into a file, which nothing else knows.
func (a *away) fetch() (file *os.File, err error) {
	if a.old, err = a.sites.Look(a.path); err != nil {
		return nil, err
	}
	if file, err = os.CreateTemp("", "widecrate-*"); err != nil {
		return nil, fault.Writing("", err)
	}
	_ = os.Remove(file.Name()) // where that cannot be done to an open file, it stays until the system clears such files
	if a.base = 0; a.old.There() {
		var there blob.File
		if there, err = a.sites.Find(a.path); err == nil && there.Info != nil {
			a.base, err = copyOf(there, file)
		}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

func copyOf(there blob.File, to io.Writer) (int64, error) {
	data, err := there.Data()
	if err != nil {
		return 0, fault.At(there.Path, err)
	}
	defer data.Close()
	n, err := io.Copy(to, io.NewSectionReader(data, 0, data.Size()))
	return n, fault.At(there.Path, err)
}

// send lets the file take the place of what was there. Where others have written there since, the
// lines of this run come after theirs.
func (a *away) send(file *os.File) (*os.File, error) {
	const tries = 5
	for try := 1; ; try++ {
		err := a.sendOnce(file)
		if err == nil {
			return file, nil
		}
		if !errors.Is(err, fault.Refused) || try == tries {
			return file, err
		}
		base := a.base
		theirs, err := a.fetch()
		if err != nil {
			return file, err
		}
		info, err := file.Stat()
		if err == nil {
			_, err = io.Copy(theirs, io.NewSectionReader(file, base, info.Size()-base))
		}
		if err != nil {
			theirs.Close()
			return file, fault.Writing(a.path, err)
		}
		file.Close()
		file = theirs
	}
}

func (a *away) sendOnce(file *os.File) error {
	info, err := file.Stat()
	if err != nil {
		return fault.Writing(a.path, err)
	}
	out, err := a.sites.CreateOver(a.old)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, io.NewSectionReader(file, 0, info.Size())); err != nil {
		return errors.Join(err, out.Discard())
	}
	if err := out.Commit(); err != nil {
		return err
	}
	a.old, err = a.sites.Look(a.path)
	return err
}
