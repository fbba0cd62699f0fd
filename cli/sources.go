package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/remote"
	"widecrate/core/source"
)

// sourceOptions find archives.
type sourceOptions struct {
	nameOptions
	request source.Request
	nested  bool
	depth   int
	shard   shardOption
	reading archive.Options

	encodings *bool // all are asked for; nil: they cannot be

	refuse option.Choice[bool] // what is not called like an archive
	left   []string            // archives that may still be arriving
	others []source.Source     // archives of other shares
}

func (o *sourceOptions) addTo(set *option.Set) {
	o.addFiles(set)
	set.Texts(&o.request.Series, "series")
	set.Number(&o.request.SeriesCount, "series-count", 1)
	set.Switch(&o.request.AllowGaps, "allow-gaps")
	set.Texts(&o.request.PartsIn, "parts-in")
	set.Value(&option.Wait{To: &o.request.Wait}, "wait")
}

// addFiles adds those that find archives of one file each.
func (o *sourceOptions) addFiles(set *option.Set) {
	set.Switch(&o.request.Recursive, "recursive")
	set.Texts(&o.request.Archives, "archives")
	o.nameOptions.addTo(set)
	set.Value(&option.Wait{To: &o.request.Settled}, "settled")
	o.refuse = option.Either([]string{"keep", "refuse"}, false, true)
	set.Value(&o.refuse, "others")
	set.Value(&o.shard, "shard")
	set.Value(&option.Encoding{To: &o.reading.Encoding, All: o.encodings}, "name-encoding")
	set.Value(&option.Zone{To: &o.reading.Zone}, "zone")
}

// addNested adds those of commands that look into archives inside others.
func (o *sourceOptions) addNested(set *option.Set) {
	o.depth = 3
	set.Switch(&o.nested, "nested")
	set.Number(&o.depth, "nested-depth", 1)
}

func (o *sourceOptions) check(cmd *cobra.Command, args []string, others bool) error {
	if !others || len(args) > 0 {
		if err := o.nameOptions.check(cmd, args); err != nil {
			return err
		}
	} else if err := onceInput(cmd, args); err != nil {
		return err
	}
	if page := cmd.Flags().Lookup("report"); page != nil && page.Changed {
		path, err := o.shard.perShare(page.Value.String())
		if err == nil {
			err = option.Put(page, path)
		}
		if err != nil {
			return usage(cmd, err)
		}
	}
	return o.request.Check()
}

// find finds the archives. Without a client, all of them have to be on disk.
func (o *sourceOptions) find(cmd *cobra.Command, args []string, s *streams, quiet bool, client *remote.Client) (sources []source.Source, err error) {
	if o.request.Names, err = o.names(cmd, args); err != nil {
		return nil, err
	}
	if o.request.Remote = client; client == nil {
		if err := onDisk(cmd, o.request.Names...); err != nil {
			return nil, err
		}
	}
	o.request.Input = cmd.InOrStdin()
	o.request.Left = func(s source.Source) { o.left = append(o.left, s.Path) }
	o.request.RefuseOthers, o.request.Others = o.refuse.Value(), func(byExtension map[string]int) { s.NotTaken = byExtension }
	if sources, err = source.Find(cmd.Context(), o.request); err != nil {
		return nil, err
	}
	if len(o.left) > 0 && (!quiet || len(sources) == 0) {
		s.Warn(fmt.Sprintf("left alone, modified less than %s ago: %s", cmd.Flags().Lookup("settled").Value, show.Count(len(o.left), "archive")+", "+parts.Shorten(o.left)))
	}
	if len(sources) > 0 && !quiet {
		for _, folder := range source.Barren(o.request.Names, sources) {
			text := "no archive in " + folder
			if into := cmd.Flags().Lookup("into"); into != nil && !into.Changed {
				text += "; where archives are to go is said with --into " + folder
			}
			s.Warn(text)
		}
	}
	if len(s.NotTaken) > 0 && len(o.request.Archives) == 0 && !quiet {
		s.Warn("not taken: " + show.Extensions(s.NotTaken))
	}
	if o.shard.Count > 0 {
		sources, o.others = o.shard.Of(sources)
	}
	return sources, nil
}

// nothing says why there is no archive to deal with.
func (o *sourceOptions) nothing(cmd *cobra.Command, s *show.Screen) {
	named := s.Name(o.named())
	if len(o.left) > 0 {
		s.Printf("No archive in %s has settled: nothing to do.\n", named)
		return
	}
	switch below := o.below(cmd); {
	case below > 0:
		s.Printf("No archive in %s itself: nothing to do. In the folders below it, --recursive finds %s.\n", named, show.Number(below))
	case len(o.request.Archives) > 0:
		s.Printf("No archive in %s matches %s: nothing to do.\n", named, s.Name(strings.Join(o.request.Archives, ", ")))
	default:
		s.Printf("No archive in %s: nothing to do.\n", named)
	}
}

// below is how many archives would have been found in the folders below.
func (o *sourceOptions) below(cmd *cobra.Command) int {
	r := o.request
	if r.Recursive {
		return 0
	}
	r.Recursive, r.Begun, r.Wait, r.Settled, r.Left, r.Others, r.RefuseOthers = true, nil, 0, 0, nil, nil, false
	r.Names = slices.DeleteFunc(slices.Clone(r.Names), remote.IsAddress) // a server may make up folders without end
	r.Pairs = slices.DeleteFunc(slices.Clone(r.Pairs), func(p source.Pair) bool { return remote.IsAddress(p.Source) })
	sources, err := source.Find(cmd.Context(), r)
	if err != nil {
		return 0 // this is only for a hint
	}
	if o.shard.Count > 0 {
		sources, _ = o.shard.Of(sources)
	}
	return len(sources)
}

// nameOptions name more sources than the command line.
type nameOptions struct {
	sourceList string
	nullIn     bool
}

func (o *nameOptions) addTo(set *option.Set) {
	set.Text(&o.sourceList, "source-list")
	set.Switch(&o.nullIn, "null-in")
}

func (o *nameOptions) check(cmd *cobra.Command, args []string) error {
	if len(args) == 0 && o.sourceList == "" {
		return usage(cmd, lacking{errors.New("no source is named")})
	}
	return onceInput(cmd, args)
}

// names are those of the command line, and then those of the list.
func (o *nameOptions) names(cmd *cobra.Command, args []string) (names []string, err error) {
	names = args
	if o.sourceList == "" {
		return names, nil
	}
	err = readFile(cmd, o.sourceList, func(r io.Reader) error {
		more, err := source.ReadList(r, o.nullIn)
		names = append(names, more...)
		return err
	})
	return names, err
}

// files is names where they are all files and folders.
func (o *nameOptions) files(cmd *cobra.Command, args []string) ([]string, error) {
	names, err := o.names(cmd, args)
	if err != nil {
		return nil, err
	}
	return source.Expand(names)
}

// nestedDepth is 0 without --nested.
func (o *sourceOptions) nestedDepth() int {
	if o.nested {
		return o.depth
	}
	return 0
}

// named is what was given, for people.
func (o *sourceOptions) named() string {
	names := "the list"
	if len(o.request.Names) > 0 {
		names = strings.Join(o.request.Names, ", ")
	}
	if o.shard.Count > 0 {
		names = fmt.Sprintf("share %s of %s", &o.shard, names)
	}
	return names
}

// onDisk refuses addresses where only files will do.
func onDisk(cmd *cobra.Command, paths ...string) error {
	for _, path := range paths {
		if remote.IsAddress(path) {
			return usage(cmd, fmt.Errorf("%s is an address, and this has to be a file", path))
		}
	}
	return nil
}

// readFile reads a file of names; "-" is standard input.
func readFile(cmd *cobra.Command, path string, read func(io.Reader) error) error {
	if path == "-" {
		return fault.At("standard input", read(cmd.InOrStdin()))
	}
	if err := onDisk(cmd, path); err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return fault.Reading(path, err)
	}
	defer f.Close()
	return fault.At(path, read(f))
}
