package claim

import (
	"os"
	"time"
)

// The lease of a run on something is a file that is locked as long as the process lives, and
// touched now and then for those on other hosts, where the lock may not be seen. Areas, new
// files, journals of what is taken away and job files have one each; whether a run is dead is
// decided here alone.
const (
	heartbeat = 20 * time.Second
	Silence   = 30 * heartbeat // after which a process on another host counts as dead
)

// Beat touches a lease until stop is called: by writing to it, so that the time is that of the
// file system's own clock. A lease holds JSON, which starts with a brace.
func Beat(f *os.File) (stop func()) {
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(heartbeat)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				_, _ = f.WriteAt([]byte("{"), 0) // its first byte anyway
			}
		}
	}()
	return func() { close(done) }
}

// Silent reports whether a lease was not touched for so long that its run, on another host,
// counts as dead. Now is by the clock of the file system, where that is known.
// What has no time counts as alive.
func Silent(info os.FileInfo, now time.Time) bool {
	return !info.ModTime().IsZero() && now.Sub(info.ModTime()) > Silence
}

// Dead reports whether the run that has a lease is surely dead, and takes the lock until the
// file is closed. A run of this host is dead without its lock; one of another, or where there
// are no locks, when it has also been silent.
func Dead(f *os.File, here bool, now time.Time) bool {
	locked := Lock(f)
	if Held(locked) {
		return false
	}
	info, err := f.Stat()
	return err == nil && (here && locked == nil || Silent(info, now))
}
