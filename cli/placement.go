package cli

import (
	"runtime"

	"widecrate/cli/option"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// placementOptions say where entries go.
type placementOptions struct {
	replacedOption
	place.Placement
	layout  option.Choice[place.Layout]
	clash   option.Choice[stage.Clash]
	names   option.Choice[place.Names]
	links   option.Choice[plan.Links]
	fresh   bool
	staging string
}

// The placeholders of --own-name and of --rename.
var ownNamePlaceholders = []string{"archive", "from", "name", "stem", "ext", "today"}
var renamePlaceholders = []string{"archive", "from", "folder", "name", "stem", "ext", "n", "modified", "today"}

func (o *placementOptions) addTo(set *option.Set) {
	o.layout = option.Either([]string{"own", "shared", "auto"}, place.Own, place.Shared, place.Auto)
	o.clash = option.Either([]string{"refuse", "skip", "replace", "newer", "number"}, stage.Refuse, stage.Skip, stage.Replace, stage.Newer, stage.Number)
	o.names = namesChoice()
	if runtime.GOOS == "windows" { // which cannot hold all names
		_ = o.names.Set("portable")
	}
	o.links = option.Either([]string{"keep", "rebase", "skip", "refuse"}, plan.KeepLinks, plan.RebaseLinks, plan.SkipLinks, plan.RefuseLinks)
	set.Text(&o.Into, "into")
	set.Value(&o.layout, "layout")
	set.Value(&option.Template{To: &o.OwnName, Allowed: ownNamePlaceholders}, "own-name")
	set.Switch(&o.Flatten, "flatten")
	set.Number(&o.Peel, "peel", 0)
	set.Value(&option.Template{To: &o.Rename, Allowed: renamePlaceholders}, "rename")
	set.Value(&o.clash, "clash")
	set.Switch(&o.fresh, "fresh")
	set.Value(&o.names, "names")
	set.Value(&o.links, "links")
	o.replacedOption.addTo(set)
	set.Text(&o.staging, "staging")
}

// replacedOption keeps what is replaced.
type replacedOption struct{ replaced string }

func (o *replacedOption) addTo(set *option.Set) { set.Text(&o.replaced, "replaced") }

// keepIn is the folder for that, wherever the program is; empty: none.
func (o *replacedOption) keepIn() string {
	if o.replaced == "" {
		return ""
	}
	return storage.Absolute(o.replaced)
}
