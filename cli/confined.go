package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/confine"
	"widecrate/core/remote"
	"widecrate/core/source"
	"widecrate/core/storage"
)

// confine gives up what a command does not need, before it opens the first of its archives. release is to be
// called in the end; roots are the folders that may be written to.
func (s *streams) confine(cmd *cobra.Command, sources []source.Source, more ...string) (release func(), roots []string) {
	k := keeping{sourcesChange: changesSources(cmd)}
	k.Read = more
	k.options(cmd)
	for i := range sources {
		k.source(&sources[i])
	}
	if s.confined {
		return func() {}, k.roots()
	}
	return s.keep(cmd, k), k.roots()
}

// confineJobs is confine for all jobs of a file. What they will read is not known yet.
func (s *streams) confineJobs(cmd *cobra.Command, file *jobFile) (release func()) {
	if s.confined {
		return func() {}
	}
	k := keeping{Rights: confine.Rights{Read: []string{"/"}, Clear: []string{"."}}}
	if file.report != "" {
		k.Write = append(k.Write, filepath.Dir(file.report))
	}
	for _, t := range file.tasks {
		names := t.args
		for _, list := range []string{"pairs", "source-list"} {
			f := t.cmd.Flags().Lookup(list)
			if f == nil {
				continue
			}
			for _, row := range option.Rows(f) {
				k.make(row[1])
				names = append(names, row[0])
			}
			if f.Value.String() != "" {
				s.aside("the kernel does not confine this run: where " + t.Title() + " writes is only known from the --" + list + " that it will find")
				s.confined = true
				return func() {}
			}
		}
		k.options(t.cmd)
		if t.Command == "create" {
			k.write(filepath.Dir(unvaried(names[0])))
			names = names[1:]
		}
		k.Network = k.Network || slices.ContainsFunc(names, remote.IsAddress)
		if changesSources(t.cmd) {
			for _, name := range names {
				if info, err := os.Stat(name); err != nil || !info.IsDir() {
					name = filepath.Dir(name)
				}
				k.write(unvaried(name))
			}
		}
	}
	return s.keep(cmd, k)
}

// keep enters what was found out, and says so.
func (s *streams) keep(cmd *cobra.Command, k keeping) (release func()) {
	if isOn(cmd, "dry-run") {
		k.Read = slices.Concat(k.Read, k.Write, k.Make)
		k.Write, k.Make, k.Clear = nil, nil, nil
	}
	if k.spools || k.Network {
		k.write(os.TempDir())
	}
	if k.Network {
		k.Read = append(append(k.Read, netrc(), os.Getenv("SSL_CERT_FILE")), filepath.SplitList(os.Getenv("SSL_CERT_DIR"))...)
		if home, err := os.UserHomeDir(); err == nil {
			k.Read = append(k.Read, filepath.Join(home, ".ssh"))
		}
	}
	held, release, err := confine.Enter(k.Rights)
	switch s.confined = true; {
	case err != nil:
		s.aside(err.Error())
	case held:
		where := slices.Concat(k.Make, k.Write)
		if slices.Sort(where); where == nil {
			where = []string{"nowhere"}
		}
		text := "the kernel lets this run write to " + strings.Join(slices.Compact(where), ", ")
		if !k.Network {
			text += ", and reach no other host"
		}
		s.aside(text)
	}
	return release
}

// aside says something to those who want to know all.
func (s *streams) aside(text string) {
	if s.Verbose {
		s.Err.Aside(text)
	}
}

// keeping finds out what rights a run needs.
type keeping struct {
	confine.Rights
	sourcesChange bool
	spools        bool     // what cannot be read twice is kept for a while
	last          string   // folder of a source
	named         []string // folders and addresses that options name to write to
	found         []string // folders of sources that change
}

// roots are the folders that a run may write to, absolute and sorted: an undo stays within them. Folders
// of sources that lie in others of those are not named.
func (k *keeping) roots() (roots []string) {
	for _, path := range k.found {
		path = storage.Absolute(path)
		if len(roots) == 0 || storage.Below(roots[len(roots)-1], path) == path && roots[len(roots)-1] != path {
			roots = append(roots, path)
		}
	}
	for _, path := range k.named {
		roots = append(roots, storage.Absolute(path))
	}
	slices.Sort(roots)
	return slices.Compact(roots)
}

// destinations are the options that name folders which are written to.
var destinations = []string{"into", "staging", "replaced", "keep-fetched"}

// takingAway are the options that say what becomes of sources.
var takingAway = []string{"after", "failed"}

// options keeps what the options of a command name.
func (k *keeping) options(cmd *cobra.Command) {
	for _, f := range option.Files(cmd) {
		switch _, writes := kinds[f.Option]; {
		case remote.IsAddress(f.Path):
			k.Network = true
		case writes:
			k.write(filepath.Dir(f.Path))
			k.write(filepath.Dir(storage.Followed(f.Path)))
		default:
			k.Read = append(k.Read, f.Path)
		}
	}
	for _, name := range destinations {
		f := cmd.Flags().Lookup(name)
		if f == nil {
			continue
		}
		if k.root(f.Value.String()); cmd.Name() == "join" && name == "into" && f.Changed { // it may be a file
			k.write(f.Value.String())
		} else {
			k.make(f.Value.String())
		}
	}
	for _, name := range takingAway {
		if f := cmd.Flags().Lookup(name); f != nil {
			if folder, moves := strings.CutPrefix(f.Value.String(), "move="); moves {
				if before := beforeNames(folder); before != folder {
					k.write(before)
				} else {
					k.make(folder)
				}
				k.root(beforeNames(folder))
			}
		}
	}
	if f := cmd.Flags().Lookup("parts-in"); f != nil {
		k.Read = append(k.Read, option.Values(f)...)
		if changesSources(cmd) {
			k.Write = append(k.Write, option.Values(f)...)
		}
	}
	k.spools = k.spools || slices.Contains([]string{"convert", "edit", "create", "weigh"}, cmd.Name()) || isOn(cmd, "nested")
}

// make keeps the right to make files in a folder, or below it, that an option names.
func (k *keeping) make(folder string) {
	switch {
	case folder == "" || folder == "-":
	case remote.IsAddress(folder):
		k.Network = true
	default:
		k.Make = append(k.Make, folder)
	}
}

// root keeps a folder, or an address, that an option names to write to.
func (k *keeping) root(folder string) {
	if folder != "" && folder != "-" {
		k.named = append(k.named, folder)
	}
}

func (k *keeping) write(path string) { k.Write = append(k.Write, path) }

// source keeps what a command needs of a source that was found: its folder, in which parts and
// lists of sums lie beside it, and the file itself, wherever a link leads.
func (k *keeping) source(s *source.Source) {
	k.make(s.To().Into)
	k.root(s.To().Into)
	if s.Address() != nil || remote.IsAddress(s.Path) {
		if k.Network = true; k.sourcesChange {
			k.named = append(k.named, storage.Dir(s.Path))
		}
		return
	}
	k.spools = k.spools || s.Elsewhere() || s.Path == "-"
	for _, path := range s.OnDisk() {
		if folder := filepath.Dir(path); folder != k.last {
			k.last = folder
			if k.sourcesChange {
				k.found = append(k.found, folder)
				k.write(folder)
			} else {
				k.Read = append(k.Read, folder)
			}
		}
		if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSymlink != 0 {
			k.Read = append(k.Read, path)
		}
	}
}

// changesSources reports whether a command writes to the folders of its sources.
func changesSources(cmd *cobra.Command) bool {
	for _, name := range takingAway {
		if f := cmd.Flags().Lookup(name); f != nil && f.Value.String() != "keep" {
			return true
		}
	}
	into := cmd.Flags().Lookup("into")
	return cmd.Name() == "edit" || into != nil && into.Value.String() == ""
}

// isOn reports whether a switch is on, where a command has it.
func isOn(cmd *cobra.Command, name string) bool {
	f := cmd.Flags().Lookup(name)
	return f != nil && f.Value.String() == "true"
}

// beforeNames is the part of a path before a placeholder in it.
func beforeNames(path string) string {
	if at := strings.IndexByte(path, '{'); at >= 0 {
		return storage.Dir(path[:at] + "x")
	}
	return path
}

// unvaried is the part of a path before what stands for something else in it, as in names of sources.
func unvaried(path string) string {
	if at := strings.IndexAny(path, "{*?["); at >= 0 {
		return storage.Dir(path[:at] + "x")
	}
	return path
}
