package cli

import "widecrate/core/fault"

// words say by which options that can be done which an error hints at.
var words = map[fault.Hint]string{
	fault.AllowMemory:       "if you trust it, allow more with --max-memory",
	fault.AllowTotal:        "if you trust it, allow more with --max-total",
	fault.AllowRatio:        "if you trust it, allow more with --max-ratio",
	fault.AllowEntries:      "if you trust it, allow more with --max-entries",
	fault.DropEntry:         "to take the rest, leave this entry out with --drop",
	fault.DropOrKeepLink:    "leave it out with --drop, or store links as they are with --links keep",
	fault.PortableNames:     "--names portable changes names that it cannot hold",
	fault.SkipLinks:         "to take the rest, leave links out with --links skip",
	fault.SkipOrRebaseLinks: "--links rebase takes absolute targets as below the archive's folder; --links skip leaves links out",
	fault.SkipOrKeepLinks:   "--links skip leaves links out, --links keep makes them",
	fault.NameOwnFolder:     "rename the archive, or name the folder with --own-name",
	fault.NameOrMerge:       `name the folders with --own-name, "{parent}-{stem}" for example, or merge them with --layout shared`,
	fault.MatchNames:        "a name is taken to the letter; to choose files of a folder by a pattern, name the folder and use --archives PATTERN",
	fault.PickPattern:       "a path is taken to the letter; choose by a pattern with --pick",
	fault.SlashInPattern:    "in the patterns of --pick and --drop, / stands between folders, on Windows too",
	fault.AllowGaps:         "fetch what is missing, or take what is there with --allow-gaps",
	fault.NameEncoding:      "--name-encoding names another",
	fault.GivePassword:      "give one with --password-env, --password-file or --ask-password",
	fault.LargerParts:       "choose a larger --part-size",
	fault.OtherParts:        "choose another --part-size, or --part-style numbered",
	fault.NumberedParts:     "--part-style numbered cuts any file",
	fault.WaitForParts:      "fetch it again; --wait waits for parts that are still arriving",
	fault.FindParts:         "fetch what is missing, or name the folder that it lies in with --parts-in; --wait waits for parts that are still arriving",
	fault.ReplaceIt:         "choose another name, or replace it with --clash replace",
	fault.NumberThem:        "convert them into different folders, or number them with --clash number",
	fault.ConvertElsewhere:  "name another folder with --into, or another format",
	fault.TellApart:         "tell them apart with {parent} or {n} in the name, or number them with --clash number",
	fault.PeelLess:          "peel or rename less, or leave one out with --drop",
	fault.LiteralPath:       "a '[' needs its ']', a '{' its '}'; --entry takes a path to the letter",
	fault.RelativeTo:        "leave --relative-to out, or name a folder above",
	fault.KeepApart:         "pack them in separate archives, or keep the folders apart with --top keep or --under",
	fault.SettleClashes:     "nothing of this archive was put into place; --clash skip, replace, newer or number says what to do instead",
	fault.Credentials:       "put user and password for the host into the netrc file, or name the variable that has a token with --token-env",
	fault.TrustCertificate:  "if it is right, --ca-file trusts the certificates of a file as well",
	fault.NameReceipt:       "name a file that --receipt wrote",
	fault.NameByArchive:     "--rename can have {archive} in the place of a counter, and --layout own counts in each folder",
	fault.NameDestination:   "--into names the folder that it goes into",
	fault.StageNearby:       "--staging needs a folder on the same file system as the destination",
}

// say puts a hint into the words of the command line.
func say(h fault.Hint) string { return words[h] }
