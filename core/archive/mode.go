package archive

// The types of files in a mode as Unix has it (POSIX, sys/stat.h), which many formats
// store.
const (
	modeType      = 0o170000
	modePipe      = 0o010000
	modeCharacter = 0o020000
	ModeFolder    = 0o040000
	modeBlock     = 0o060000
	ModeFile      = 0o100000
	ModeSymlink   = 0o120000
)

// KindOfMode is the kind that the type in a mode stands for; a mode without one is that
// of a file.
func KindOfMode(mode uint32) Kind {
	switch mode & modeType {
	case ModeFile, 0:
		return File
	case ModeFolder:
		return Folder
	case ModeSymlink:
		return Symlink
	case modeCharacter, modeBlock:
		return Device
	case modePipe:
		return Pipe
	}
	return Other
}
