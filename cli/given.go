package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/create"
)

// givenOptions are entries that are named one by one.
type givenOptions struct {
	puts, texts []string
	stdinAs     string
}

func (o *givenOptions) addTo(set *option.Set) {
	set.Texts(&o.puts, "put")
	set.Texts(&o.texts, "text")
	set.Text(&o.stdinAs, "stdin-as")
}

func (o *givenOptions) count() int {
	n := len(o.puts) + len(o.texts)
	if o.stdinAs != "" {
		n++
	}
	return n
}

// inside is a path in an archive as it was typed: on Windows, backslashes stand between
// folders there, too.
func inside(typed string) string { return filepath.ToSlash(typed) }

// give adds them to what is to be packed.
func (o *givenOptions) give(cmd *cobra.Command, to *create.Options) error {
	for _, put := range o.puts {
		at := strings.LastIndex(put, "=")
		if at < 1 {
			return usage(cmd, fmt.Errorf("--put %q is not FILE=PATH", put))
		}
		to.Puts = append(to.Puts, create.Put{File: put[:at], Path: inside(put[at+1:])})
	}
	for _, text := range o.texts {
		path, content, found := strings.Cut(text, "=")
		if !found {
			return usage(cmd, fmt.Errorf("--text %q is not PATH=TEXT", text))
		}
		to.Texts = append(to.Texts, create.Text{Path: inside(path), Text: content})
	}
	if o.stdinAs != "" {
		to.Streams = []create.Stream{{Path: inside(o.stdinAs), Data: cmd.InOrStdin()}}
	}
	return nil
}
