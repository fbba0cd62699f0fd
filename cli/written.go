package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/page"
	"widecrate/cli/show"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/source"
	"widecrate/core/storage"
)

// kinds make sure that the files of options which are written can become what they are to be.
var kinds = map[string]func(sites newfile.Sites, path string) error{
	"receipt":    receipt.Check,
	"sums":       receipt.CheckSums,
	"entry-sums": receipt.CheckSums,
	"report":     local(page.Check),
	"chart":      local(show.CheckChart),
}

// local is a check of what can only be on disk.
func local(check func(path string) error) func(newfile.Sites, string) error {
	return func(_ newfile.Sites, path string) error {
		if remote.IsAddress(path) {
			return fault.At(path, fault.New(fault.Usage, "it is an address, and this has to be a file on disk"))
		}
		return check(path)
	}
}

// checkWritten refuses, before anything is done, to write over a file of another kind, and
// over one that the run needs or makes: sources, lists, the archives that others names.
func (s *streams) checkWritten(cmd *cobra.Command, sources []source.Source, others ...string) error {
	files := option.Files(cmd)
	if s.jobFile != "" {
		files = append(files, option.File{Option: "the job file", Path: s.jobFile})
	}
	for i, f := range files {
		check := kinds[f.Option]
		if check == nil {
			continue
		}
		for _, path := range others {
			if samePath(f.Path, path) {
				return usage(cmd, fmt.Errorf("--%s %s is the archive itself", f.Option, f.Path))
			}
		}
		for j, other := range files {
			readsOwn := f.Option == "receipt" && other.Option == "done-in"
			if i != j && !readsOwn && samePath(f.Path, other.Path) {
				return usage(cmd, fmt.Errorf("--%s %s is also that of --%s", f.Option, f.Path, other.Option))
			}
		}
		if err := check(s.sites, f.Path); err != nil {
			return err
		}
	}
	return s.checkSources(cmd, files, sources)
}

// checkSources refuses to write over a source.
func (s *streams) checkSources(cmd *cobra.Command, files []option.File, sources []source.Source) error {
	for _, f := range files {
		there, err := os.Stat(f.Path)
		if kinds[f.Option] == nil || err != nil {
			continue
		}
		for i := range sources {
			for _, path := range sources[i].OnDisk() {
				if info, err := os.Stat(path); err == nil && os.SameFile(info, there) {
					return usage(cmd, fmt.Errorf("--%s %s is a source", f.Option, f.Path))
				}
			}
		}
	}
	return nil
}

// samePath reports whether two paths are those of one file, which need not be there yet.
func samePath(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	if errX == nil && errY == nil {
		return os.SameFile(x, y)
	}
	return place.Key(storage.Absolute(a)) == place.Key(storage.Absolute(b))
}

// needed are the files that a run reads or writes besides its sources, and the folders that it moves something to.
func (s *streams) needed(cmd *cobra.Command) (needed []disposal.Needed) {
	name := func(option, path string) {
		if !remote.IsAddress(path) && path != "" && path != "-" {
			needed = append(needed, disposal.Needed{Path: path, What: "--" + option + " " + path})
		}
	}
	for _, f := range option.Files(cmd) {
		if f.Option != "into" {
			name(f.Option, f.Path)
		}
	}
	for _, option := range []string{"replaced", "keep-fetched"} {
		if f := cmd.Flags().Lookup(option); f != nil {
			name(option, f.Value.String())
		}
	}
	for _, option := range takingAway {
		if f := cmd.Flags().Lookup(option); f != nil {
			if folder, moves := strings.CutPrefix(f.Value.String(), "move="); moves {
				name(option, beforeNames(folder))
			}
		}
	}
	if s.jobFile != "" {
		needed = append(needed, disposal.Needed{Path: s.jobFile, What: "the job file " + s.jobFile})
	}
	return needed
}

// guarded are sites where nothing takes the place of what a run needs.
func (s *streams) guarded(cmd *cobra.Command, sources []source.Source, folders ...disposal.Needed) newfile.Sites {
	sites := s.sites
	sites.Needs = &disposal.Needs{Sites: s.sites.Sites, Named: s.needed(cmd), Folders: folders, Sources: func(yield func(disposal.Needed)) {
		for i := range sources {
			for _, path := range append(sources[i].OnDisk(), sources[i].Path) {
				yield(disposal.Needed{Path: path, What: "a source"})
			}
		}
	}}
	return sites
}
