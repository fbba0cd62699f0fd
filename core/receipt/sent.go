package receipt

import (
	"errors"
	"io"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/newfile"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// A sent receipt is one that cannot be appended to where it lies: what was there, with the lines of this run after it, on this
// machine. It is sent whole, and takes the place of what was there when it was read.
type sent struct {
	sites newfile.Sites
	path  string
	old   *disposal.Old
	file  *folder.Temporary
	base  int64 // bytes of it that were there
}

// fetch gets what is there into a file.
func (a *sent) fetch() error { return remote.Settled(a.fetchOnce) }

func (a *sent) fetchOnce() (err error) {
	if a.old, err = a.sites.Look(a.path); err != nil {
		return err
	}
	file, err := folder.NewTemporary("")
	if err != nil {
		return err
	}
	if a.base = 0; a.old.There() {
		var there blob.File
		if there, err = a.sites.Find(a.path); err == nil && there.Info != nil {
			a.base, err = copyOf(there, file)
		}
	}
	if err != nil {
		file.Close()
		return err
	}
	a.file = file
	return nil
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
// lines of this run come after theirs; as far as the server can keep runs apart, one sends after the other.
func (a *sent) send() error {
	dir, err := a.sites.Open(storage.Dir(a.path))
	if err != nil {
		return err
	}
	defer dir.Close()
	if release, err := claim.Turn(a.sites.Context, dir, storage.Base(a.path)); err == nil {
		defer release()
	}
	const tries = 5
	for try := 1; ; try++ {
		err := a.sendOnce()
		if err == nil || !errors.Is(err, fault.Refused) || try == tries {
			return err
		}
		ours, base := a.file, a.base
		if err := a.fetch(); err != nil {
			return err
		}
		info, err := ours.Stat()
		if err == nil {
			_, err = io.Copy(a.file, io.NewSectionReader(ours, base, info.Size()-base))
		}
		ours.Close()
		if err != nil {
			return fault.Writing(a.path, err)
		}
	}
}

func (a *sent) sendOnce() error {
	info, err := a.file.Stat()
	if err != nil {
		return fault.Writing(a.path, err)
	}
	out, err := a.sites.CreateOver(a.old)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, io.NewSectionReader(a.file, 0, info.Size())); err != nil {
		return errors.Join(err, out.Discard())
	}
	if err := out.Commit(); err != nil {
		return err
	}
	a.old, err = a.sites.Look(a.path)
	return err
}
