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
	fault.PortableNames:     "use --names portable, which changes such names",
	fault.SkipLinks:         "to take the rest, leave links out with --links skip",
	fault.SkipOrRebaseLinks: "use --links rebase to take absolute targets as below the archive's folder, or --links skip to leave links out",
	fault.SkipOrKeepLinks:   "use --links skip to leave links out, or --links keep to make them",
	fault.NameOwnFolder:     "rename the archive, or name the folder with --own-name",
	fault.PackPortable:      `--drop leaves it out, --names portable changes such names, and --links skip or follow packs links otherwise`,
	fault.SwapElsewhere:     `nothing was swapped; name another --into or --own-name, or keep that elsewhere`,
	fault.NameOrMerge:       `name the folders with --own-name, "{from}-{stem}" for example, or merge them with --layout shared`,
	fault.MatchNames:        "names are taken exactly as written; to choose files of a folder by a pattern, name the folder and use --archives PATTERN",
	fault.PickPattern:       "--entry takes an exact path; choose by a pattern with --pick",
	fault.SlashInPattern:    "in --pick and --drop, folders are separated by /, on Windows too",
	fault.AllowGaps:         "fetch what is missing, or take what is there with --allow-gaps",
	fault.NameEncoding:      "choose another with --name-encoding",
	fault.GivePassword:      "give one with --password-env, --password-file or --ask-password",
	fault.LargerParts:       "choose a larger --part-size",
	fault.OtherParts:        "choose another --part-size, or --part-style numbered",
	fault.NumberedParts:     "use --part-style numbered, which works for any file",
	fault.WaitForParts:      "fetch it again; if it is still arriving, use --wait",
	fault.FindParts:         "fetch what is missing; if it is in another folder, name that with --parts-in; if it is still arriving, use --wait",
	fault.ReplaceIt:         "choose another name, or replace it with --clash replace",
	fault.NumberThem:        "convert them into different folders, or number them with --clash number",
	fault.ConvertElsewhere:  "name another folder with --into, or another format",
	fault.TellApart:         "tell them apart with {from} or {n} in the name, or number them with --clash number",
	fault.PeelLess:          "peel or rename less, or leave one out with --drop",
	fault.LiteralPath:       "close each '[' with ']' and each '{' with '}'; for an exact path use --entry",
	fault.RelativeTo:        "leave --relative-to out, or name a folder above",
	fault.KeepApart:         "pack them in separate archives, or keep the folders apart with --top keep or --under",
	fault.SettleClashes:     "nothing of this archive was put into place; choose what to do with --clash skip, replace, newer or number",
	fault.Credentials:       "put user and password for the host into the netrc file, or name the variable that has user:password with --login-env, or a token with --token-env",
	fault.UseAgent:          "add it to an agent that runs, and leave --identity out",
	fault.NameFolders:       "name the folders that are wanted, without --recursive",
	fault.LogIn:             "name a key that it knows with --identity, add one to an agent that runs, or name the variable that has user:password with --login-env",
	fault.TrustCertificate:  "if the server is right, name a file with its certificates with --ca-file",
	fault.KeepReplaced:      "nothing was done; with --replaced the next run keeps that",
	fault.NameReceipt:       "name a file that --receipt wrote",
	fault.NameByArchive:     "use {archive} instead of a counter in --rename, or --layout own, which counts in each folder",
	fault.NameDestination:   "name the folder that it goes into with --into",
	fault.StageNearby:       "--staging needs a folder on the same file system as the destination",
}

// say is how the command line speaks of failures.
var say = fault.Wording{Hint: func(h fault.Hint) string { return words[h] }, Code: codeOf}
