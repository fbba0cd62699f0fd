package option

// Absent says why commands lack an option that somebody may expect of them.
var Absent = map[string]map[string]string{
	"source-list":   {"run": "the job file names the sources", "compare": "see `--pairs`"},
	"recursive":     {"create": "a folder is packed with all in it", "weigh": "a folder counts with all in it", "split": "files are named"},
	"series":        {"edit": "each member is edited by itself", "compare": "see `--archives-by`"},
	"parts-in":      {"edit": "a set is edited where it lies"},
	"wait":          {"edit": "what is edited is there"},
	"nested":        {"convert": "an archive inside is an entry like any other", "compare": "an archive inside is an entry like any other", "create": "nothing is opened"},
	"shard":         {"create": "what is made depends on all sources"},
	"password-env":  {"scan": "nothing is decoded", "join": "nothing is decoded", "split": "nothing is decoded"},
	"max-total":     {"create": "nothing is unpacked", "scan": "nothing is unpacked", "join": "nothing is unpacked", "split": "nothing is unpacked"},
	"token-env":     {"create": "what is packed are files", "edit": "what is edited is a file", "split": "what is cut is a file", "weigh": "what is packed are files", "scan": "sets are looked for on disk"},
	"entry":         {"edit": "see `--remove`", "scan": "nothing is opened", "join": "nothing is opened", "split": "nothing is opened"},
	"after":         {"inspect": "nothing is delivered", "verify": "nothing is delivered", "compare": "nothing is delivered", "edit": "the source is what changes"},
	"dry-run":       {"inspect": "nothing is written", "compare": "nothing is written", "weigh": "nothing is written", "scan": "nothing is written"},
	"read-back":     {"extract": "data is checked when it is unpacked"},
	"skip-done":     {"edit": "where nothing changes, nothing is done", "inspect": "nothing is delivered", "verify": "see `--against`"},
	"clash":         {"edit": "the archive is what changes"},
	"halt":          {"inspect": "nothing is at stake", "weigh": "the sources are one thing", "scan": "nothing is at stake"},
	"workers":       {"scan": "the disk decides"},
	"sums":          {"split": "a list lies beside the parts"},
	"check-sums":    {"create": "what is packed are files", "edit": "an archive that is edited gets another sum", "split": "the sum of the whole is in the list"},
	"name-encoding": {"create": "names are UTF-8", "scan": "nothing is opened", "join": "nothing is opened", "split": "nothing is opened"},
	"progress":      {"inspect": "a listing is its own progress"},
}
