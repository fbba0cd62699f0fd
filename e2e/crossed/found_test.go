package crossed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// found are cases that went wrong once, by what should be so.
var found = map[string]struct {
	law   string // empty: what the model says
	words string
	world
}{
	"an archive inside is put into place though a file of the outer one is in the way": {"", "--nested", world{
		archives: []*Archive{{Name: "arch-0.tar.xz", Entries: []Entry{{Path: "a.csv", Data: "1", Time: when}, {Path: "in.zip", Inner: &Archive{Name: "in.zip", Entries: []Entry{{Path: "b.csv", Data: "2", Time: when}}}}}}},
		there:    Tree{"arch-0/a.csv": {File, "33", 0}}}},
	"a template has the name that standard input is given": {"", "--rename {stem}-{archive}{ext}", world{way: inPipe,
		archives: []*Archive{{Name: "arch-0.tar", Entries: []Entry{{Path: "a.csv", Data: "1", Time: when}}}}}},
	"a link beside a file that is lost is kept": {"", "--salvage", world{
		archives: []*Archive{{Name: "arch-0.zip", Damage: Flipped, Entries: []Entry{{Path: "a.csv", Data: brokenText, Time: when}, {Path: "link", Kind: Symlink, Link: "a.csv", Time: when}}}}}},
	"a dry run goes on to what lies in an archive whose own files are locked": {"a dry run", "--nested", world{
		archives: []*Archive{{Name: "arch-0.zip", Key: keys[1], Entries: []Entry{{Path: "a.csv", Data: "1", Time: when}, {Path: "in.zip", Inner: &Archive{Name: "in.zip"}}}}}}},
	"a dry run checks what an archive claims before it reads of it": {"a dry run", "--max-ratio 1", world{
		archives: []*Archive{{Name: "arch-0.zip", Key: keys[0], Entries: []Entry{{Path: "a.csv", Data: strings.Repeat("tide ", 3000), Time: when}}}}}},
	"two archives with one own folder are refused in different shares, too": {"shares are the whole", "--own-name one", world{
		archives: []*Archive{{Name: "arch-0.zip", Entries: []Entry{{Path: "a.csv", Data: "1", Time: when}}}, {Name: "arch-1.zip", Entries: []Entry{{Path: "b.csv", Data: "1", Time: when}}}, {Name: "arch-2.zip"}, {Name: "arch-3.zip"}}}},
	"verify refuses an archive inside whose path leads out, as extract does": {"verify agrees", "--nested", world{
		archives: []*Archive{{Name: "arch-0.tar", Entries: []Entry{{Path: "../in.zip", Inner: &Archive{Name: "in.zip", Entries: []Entry{{Path: "a.csv", Data: "1", Time: when}}}}}}}}},
	"what lies in an archive that was not taken is not listed": {"a dry run", "--nested --halt", world{
		archives: []*Archive{{Name: "arch-0.zip", Damage: Junk}, {Name: "arch-1.tar.gz", Entries: []Entry{{Path: "in.zip", Inner: &Archive{Name: "in.zip"}}}}}}},
}

// What went wrong once does not go wrong again.
func TestFound(t *testing.T) {
	for should, c := range found {
		t.Run(should, func(t *testing.T) {
			if c.way == "" {
				c.way = inFolder
			}
			if c.there == nil {
				c.there = Tree{}
			}
			if check := laws[c.law]; check != nil {
				check(t, &c.world, strings.Fields(c.words))
			} else {
				comesOut(t, &c.world, strings.Fields(c.words))
			}
		})
	}
	_, errs, code := cli(t, t.TempDir(), "compare", "DIR", "DIR", "--entry", "none")
	assert.Equal(t, 6, code, errs)
}
