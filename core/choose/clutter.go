package choose

import "strings"

// clutter are the names that desktop systems leave in folders they show.
var clutter = map[string]bool{
	"__macosx": true, ".ds_store": true, ".appledouble": true, ".lsoverride": true, "icon\r": true, ".localized": true,
	".spotlight-v100": true, ".trashes": true, ".fseventsd": true, ".temporaryitems": true, ".documentrevisions-v100": true,
	"thumbs.db": true, "thumbs.db:encryptable": true, "ehthumbs.db": true, "ehthumbs_vista.db": true, "desktop.ini": true,
	"$recycle.bin": true, "system volume information": true, ".directory": true, ".trash-1000": true,
}

// IsClutter reports whether a path is, or lies in, something that a desktop
// system added for itself: hidden copies of files, thumbnails, folder settings.
func IsClutter(path string) bool {
	for name := range strings.SplitSeq(path, "/") {
		if strings.HasPrefix(name, "._") || clutter[strings.ToLower(name)] {
			return true
		}
	}
	return false
}
