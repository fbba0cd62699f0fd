package fault

import (
	"errors"
	"strings"
)

// A Hint is what can be done about a failure, for a program that knows how its
// users do such things. Its text says it without that.
type Hint uint8

// The hints.
const (
	NoHint Hint = iota
	AllowMemory
	AllowTotal
	AllowRatio
	AllowEntries
	DropEntry
	DropOrKeepLink
	SkipLinks
	SkipOrRebaseLinks
	SkipOrKeepLinks
	PortableNames
	PackPortable
	NameOwnFolder
	NameOrMerge
	SwapElsewhere
	MatchNames
	PickPattern
	ExactPath
	IgnoreCase
	SlashInPattern
	AllowGaps
	AllVolumes
	NameEncoding
	GivePassword
	GiveDictionary
	LargerParts
	OtherParts
	NumberedParts
	WaitForParts
	FindParts
	ReplaceIt
	NumberThem
	ConvertElsewhere
	TellApart
	PeelLess
	LiteralPath
	RelativeTo
	KeepApart
	SettleClashes
	StageNearby
	Credentials
	TrustCertificate
	LogIn
	UseAgent
	NameFolders
	NameDestination
	NameByArchive
	NameReceipt
	KeepReplaced
	TakeOrLeave
	hintCount
)

var hints = [hintCount]string{
	TakeOrLeave:       "take what matches a pattern, or leave such files alone",
	KeepReplaced:      "nothing was done; keep what is replaced, so that it can be put back",
	AllowMemory:       "if you trust it, allow decoders more memory",
	AllowTotal:        "if you trust it, allow more bytes in all",
	AllowRatio:        "if you trust it, allow it to unpack to more times its size",
	AllowEntries:      "if you trust it, allow more entries",
	DropEntry:         "leave this entry out to take the rest",
	DropOrKeepLink:    "leave it out, or store links as they are",
	SkipLinks:         "leave links out to take the rest",
	SkipOrRebaseLinks: "leave links out, or take absolute ones as below the archive's folder",
	SkipOrKeepLinks:   "leave links out, or make them",
	PackPortable:      "leave it out, have such names changed, or pack links otherwise",
	PortableNames:     "have such names changed",
	NameOwnFolder:     "rename the archive, or name its folder",
	NameOrMerge:       "name the folders, or merge them",
	SwapElsewhere:     "nothing was swapped; name another destination, or keep that elsewhere",
	MatchNames:        "names are taken exactly as written; to choose files of a folder by a pattern, name the folder",
	PickPattern:       "a path is taken exactly as written; a pattern chooses several",
	ExactPath:         "in a pattern, brackets are no letters; give an exact path",
	IgnoreCase:        "letter case counts",
	SlashInPattern:    "in patterns, folders are separated by a slash on every system",
	AllowGaps:         "fetch what is missing, or take what is there",
	AllVolumes:        "open all volumes as one",
	NameEncoding:      "choose another encoding",
	GivePassword:      "give a password",
	GiveDictionary:    "give the dictionary that it was packed with",
	LargerParts:       "choose larger parts",
	OtherParts:        "choose another size of parts, or number them",
	NumberedParts:     "cut it into numbered parts, as any file can be",
	WaitForParts:      "fetch it again, or wait for parts that are still arriving",
	FindParts:         "fetch what is missing, say where else parts lie, or wait for them",
	ReplaceIt:         "choose another name, or replace what is there",
	NumberThem:        "convert them into different folders, or number them",
	ConvertElsewhere:  "name another folder, or another format",
	TellApart:         "tell them apart in the name, or number them",
	PeelLess:          "drop fewer folders, rename less, or leave one out",
	LiteralPath:       "close each '[' with ']' and each '{' with '}', or give an exact path",
	RelativeTo:        "leave out where paths start, or name a folder above",
	KeepApart:         "pack them in separate archives, or keep the folders apart",
	SettleClashes:     "nothing of this archive was put into place; say what to do about files that differ",
	Credentials:       "give user and password for the host in the netrc file, or a token",
	UseAgent:          "add it to an agent that runs, and name no key",
	NameFolders:       "name the folders that are wanted, and look in none below them",
	LogIn:             "give a key that it knows, be it by an agent, or user and password",
	TrustCertificate:  "if the server is right, name a file with its certificates",
	NameReceipt:       "name a file that an earlier run wrote as its receipt",
	NameByArchive:     "name files after their archives instead",
	NameDestination:   "name the folder that they go into",
	StageNearby:       "unfinished work needs a folder on the same file system as the destination",
}

func (h Hint) String() string { return hints[h] }

// Hints are all that there are.
func Hints() []Hint {
	all := make([]Hint, 0, hintCount)
	for h := NoHint + 1; h < hintCount; h++ {
		all = append(all, h)
	}
	return all
}

// A Wording is how a program speaks of failures. Zero values: hints speak for themselves, and
// kinds have no codes.
type Wording struct {
	Hint func(Hint) string // by which of its options that can be done which a hint is about
	Code func(Kind) int    // that it ends with
}

// kindAdvice is what to do about a failure that does not say it itself.
var kindAdvice = map[Kind]string{
	Damaged:    "get it again from where it came from",
	Unreadable: "check that it is there and that you may read it",
	Unwritable: "nothing incomplete was left behind; check free space and permissions there",
}

// Advice is what can be done about an error, in the words of a program; empty if
// nothing is known.
func (w Wording) Advice(err error) string {
	e, ok := errors.AsType[*Error](err)
	if !ok {
		return ""
	}
	var said []string
	if e.Do != "" {
		said = append(said, e.Do)
	}
	if e.Hint != NoHint {
		said = append(said, w.of(e.Hint))
	}
	if said == nil {
		return kindAdvice[e.Kind]
	}
	return strings.Join(said, "; ")
}

// With completes a text that a hint belongs to.
func (w Wording) With(text string, h Hint) string {
	if h == NoHint {
		return text
	}
	return text + "; " + w.of(h)
}

func (w Wording) of(h Hint) string {
	if w.Hint == nil {
		return h.String()
	}
	return w.Hint(h)
}
