// Package option has the table of options: each has one row, whichever commands
// have it, and its flags, its help and its completion are made from that row. It
// knows nothing of what the commands do.
package option

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/remote"
)

// A Row is one option.
type Row struct {
	Name        string
	Letter      string // its shorthand; most have none
	Placeholder string // of its value; a switch has none, and one of a few words has those
	Help        string // one line
	More        string // all that there is to say; empty: Help
	For         map[string]As
	Seldom      bool   // needed; a short help that is too long only names it
	Shapes      bool   // what comes of a command, and not only how it runs
	Needs       string // another option, or one with a value, without which this one means nothing
	Addresses   string // commands, separated by spaces, in which its path may be an address
}

// As is what is different about an option in one command.
type As struct{ Placeholder, Help, More string }

// row is the row of an option as a command has it. There is one for each: anything
// else is a mistake in the program.
func row(name, command string) Row {
	i := slices.IndexFunc(Table, func(r Row) bool { return r.Name == name })
	if i < 0 {
		panic("there is no option " + name)
	}
	r := Table[i]
	as := r.For[command]
	if as.Placeholder != "" {
		r.Placeholder = as.Placeholder
	}
	if as.Help != "" {
		r.Help, r.More = as.Help, ""
	}
	if as.More != "" {
		r.More = as.More
	}
	if r.More == "" {
		r.More = r.Help
	}
	return r
}

// A Value is what an option is set to.
type Value interface {
	pflag.Value

	// Words are all possible values; nil: there are too many.
	Words() []string
}

// A Set declares the options of a command. Those in groups are declared when Declare is called: a
// program of many commands runs one of them.
type Set struct {
	cmd   *cobra.Command
	title string
}

// waiting are the groups of commands that are not declared yet, in their order.
var waiting sync.Map // of *cobra.Command to *[]func()

// Declare declares the options of a command.
func Declare(cmd *cobra.Command) {
	if groups, some := waiting.LoadAndDelete(cmd); some {
		for _, declare := range *groups.(*[]func()) {
			declare()
		}
	}
}

// Of starts the options of a command.
func Of(cmd *cobra.Command) *Set {
	cmd.Flags().SortFlags = false
	return &Set{cmd: cmd}
}

// The annotations of a flag: what the help needs to know of it.
const (
	titleKey       = "title"
	placeholderKey = "placeholder"
	helpKey        = "help"
	seldomKey      = "seldom"
)

// Group puts the options that declare declares under a title in the help.
func (s *Set) Group(title string, declare func()) {
	groups, _ := waiting.LoadOrStore(s.cmd, new([]func()))
	all := groups.(*[]func())
	*all = append(*all, func() {
		s.title = title
		declare()
	})
}

// nearest says which word was probably meant.
func nearest(word string, words []string) string {
	if nearest := fault.Nearest(word, words); nearest != "" {
		return "; the nearest is " + nearest
	}
	return ""
}

// add declares an option with a value.
func (s *Set) add(v pflag.Value, name string) *pflag.Flag {
	r := row(name, s.cmd.Name())
	if _, isSwitch := v.(*truth); !isSwitch {
		v = &filled{Value: v, repeats: repeats(v)}
	}
	f := s.cmd.Flags().VarPF(v, name, r.Letter, r.More)
	f.Annotations = map[string][]string{titleKey: {s.title}, placeholderKey: {r.Placeholder}, helpKey: {r.Help}}
	if r.Seldom {
		f.Annotations[seldomKey] = []string{"true"}
	}
	return f
}

// repeats reports whether a value takes more with each time that it is given.
func repeats(v pflag.Value) bool {
	switch v.(type) {
	case *texts, *list:
		return true
	}
	return false
}

// filled refuses an empty value: a variable that a script did not set. It also refuses a second value, of which one would
// be lost.
type filled struct {
	pflag.Value
	repeats, given bool
}

func (f *filled) Set(text string) error {
	switch {
	case text == "":
		return fmt.Errorf("it is empty: is a variable not set?")
	case f.given && !f.repeats:
		return fmt.Errorf("it is given twice, before as %q", f.String())
	}
	f.given = true
	return f.Value.Set(text)
}

// Put gives an option another value, as the program itself does.
func Put(f *pflag.Flag, text string) error {
	if inside, ok := f.Value.(*filled); ok {
		return inside.Value.Set(text)
	}
	return f.Value.Set(text)
}

// Switch is on or off.
func (s *Set) Switch(to *bool, name string) { s.add((*truth)(to), name).NoOptDefVal = "true" }

// Text is any text.
func (s *Set) Text(to *string, name string) { s.add((*text)(to), name) }

// Offered is a text for which some words are offered; which are allowed may depend on more.
func (s *Set) Offered(to *string, name string, words ...string) {
	s.add(&offered{(*text)(to), words}, name)
}

// Texts are texts of an option that may be repeated.
func (s *Set) Texts(to *[]string, name string) { s.add((*texts)(to), name) }

// List is texts with commas between them.
func (s *Set) List(to *[]string, name string) { s.add(&list{to: to}, name) }

// Number is a number of at least so much; what it is when left out stands there
// already.
func (s *Set) Number(to *int, name string, least int) { s.add(&number{to: to, least: least}, name) }

// Bound is a bound, a number or a size. When left out it is 0; 0 makes it the largest there is.
func (s *Set) Bound(to *int64, name string, size bool) { s.add(&bounded{to, size}, name) }

// Value is one of a kind of its own.
func (s *Set) Value(v Value, name string) { s.add(v, name) }

// Words are all that an option can be; nil: there are too many.
func Words(f *pflag.Flag) []string {
	if inside, ok := f.Value.(*filled); ok {
		if v, ok := inside.Value.(Value); ok {
			return v.Words()
		}
	}
	return nil
}

// Shaping are the options of a command that shape what comes of it, with their values,
// but for those that are off or empty.
func Shaping(cmd *cobra.Command) map[string]string {
	values := map[string]string{}
	for _, r := range Table {
		f := cmd.Flags().Lookup(r.Name)
		if f == nil || !r.Shapes {
			continue
		}
		if v := f.Value.String(); v != "" && v != "false" {
			values[r.Name] = v
		}
	}
	return values
}

// A File is a file that an option of a command line names.
type File struct{ Option, Path string }

// Files are those that are named, at addresses too: not standard input and output.
func Files(cmd *cobra.Command) (files []File) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		of := f.Annotations[placeholderKey]
		if of == nil || !slices.Contains([]string{"FILE", "FILE.html", "RECEIPT"}, of[0]) {
			return
		}
		for _, path := range Values(f) {
			if path != "" && path != "-" {
				files = append(files, File{f.Name, path})
			}
		}
	})
	return files
}

// Values are those of an option that may be given several times.
func Values(f *pflag.Flag) []string {
	if v, ok := f.Value.(*filled); ok {
		if several, ok := v.Value.(*texts); ok {
			return *several
		}
	}
	return []string{f.Value.String()}
}

// A Conflict is a pair of options that exclude each other, by name, or by name and
// value: "layout=shared".
type Conflict struct{ A, B, Why string }

func spelt(option string) string { return "--" + strings.ReplaceAll(option, "=", " ") }

func (c *Conflict) Error() string {
	return spelt(c.A) + " and " + spelt(c.B) + " do not go together: " + c.Why
}

// A Need is an option that means nothing without another.
type Need struct{ A, B string }

func (n *Need) Error() string { return spelt(n.A) + " needs " + spelt(n.B) }

// Check finds the options of a command line that exclude each other: each is a Conflict,
// a Need or a Local.
func Check(cmd *cobra.Command) (wrong []error) {
	wrong = dated(cmd, time.Now())
	for i, c := range Conflicts {
		if given(cmd, c.A) && given(cmd, c.B) {
			wrong = append(wrong, &Conflicts[i])
		}
	}
	for _, r := range Table {
		needed, _, _ := strings.Cut(r.Needs, "=")
		if r.Needs != "" && given(cmd, r.Name) && cmd.Flags().Lookup(needed) != nil && !given(cmd, r.Needs) {
			wrong = append(wrong, &Need{r.Name, r.Needs})
		}
	}
	return append(wrong, onDisk(cmd)...)
}

// dated puts the date of the run into the paths that options name.
func dated(cmd *cobra.Command, today time.Time) (wrong []error) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		of := f.Annotations[placeholderKey]
		if !f.Changed || of == nil || !slices.Contains([]string{"FILE", "FILE.html", "RECEIPT", "DIR", "FOLDER"}, of[0]) || !strings.Contains(f.Value.String(), "{") {
			return
		}
		several := Values(f)
		for i := range several {
			path, err := place.Dated(several[i], today)
			if err != nil {
				wrong = append(wrong, fmt.Errorf("--%s: %w", f.Name, err))
			}
			if several[i] = path; !repeats(f.Value.(*filled).Value) {
				_ = Put(f, path) // a text is taken as it is
			}
		}
	})
	return wrong
}

// A Local is a path that has to be on disk, and is an address.
type Local struct{ Name, Address string }

func (l *Local) Error() string {
	return spelt(l.Name) + " " + l.Address + " is an address, and this has to be on disk"
}

// onDisk finds the addresses where only paths on disk make sense.
func onDisk(cmd *cobra.Command) (wrong []error) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		of := f.Annotations[placeholderKey]
		if !f.Changed || of == nil || !slices.Contains([]string{"FILE", "FILE.html", "RECEIPT", "DIR"}, of[0]) {
			return
		}
		if slices.Contains(strings.Fields(row(f.Name, cmd.Name()).Addresses), cmd.Name()) {
			return
		}
		for _, path := range Values(f) {
			if remote.IsAddress(path) {
				wrong = append(wrong, &Local{f.Name, path})
			}
		}
	})
	return wrong
}

func given(cmd *cobra.Command, what string) bool {
	name, value, valued := strings.Cut(what, "=")
	f := cmd.Flags().Lookup(name)
	if f == nil {
		return false
	}
	if valued {
		return f.Value.String() == value
	}
	return f.Changed && f.Value.String() != "false"
}
