package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// small are the figures that say most of a file system, with their limits on a disk.
var small = map[string]float64{"many": 1, "shared": 1, "tiny": 1.05}

// onDisks measures figures on file systems that it makes and mounts, on disks that lie in memory:
// their own work counts there, and no other user of a disk. All figures: those of small files.
func (b *bench) onDisks(kinds string, list []figure) error {
	if list = slices.Clone(list); len(list) == len(figures) {
		list = slices.DeleteFunc(list, func(f figure) bool { return small[f.name] == 0 })
	}
	for i, f := range list {
		if limit := small[f.name]; limit > 0 {
			list[i].limit = limit
		}
	}
	for kind := range strings.SplitSeq(kinds, ",") {
		fmt.Printf("\n%s\n", kind)
		if err := b.onDisk(kind, list); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) onDisk(kind string, list []figure) error {
	disk, place, in := filepath.Join(b.dir, kind+".disk"), filepath.Join(b.dir, kind), b.dir
	must(os.Mkdir(place, 0o777))
	must(os.WriteFile(disk, nil, 0o666))
	defer os.Remove(disk)
	must(os.Truncate(disk, 8<<30))
	for _, command := range [][]string{{"mkfs." + kind, "-q", disk}, {"mount", "-o", "loop", disk, place}} {
		if said, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s cannot be mounted here: %s: %w: %s", kind, strings.Join(command, " "), err, said)
		}
	}
	defer func() { must(exec.Command("umount", place).Run()) }()
	defer func() { b.dir = in; must(os.Chdir(in)) }()
	b.dir = place
	b.measure(list)
	return nil
}
