package tar

import (
	"bytes"
	"errors"
	"math"
	"strconv"
	"strings"
	"time"

	"widecrate/core/archive"
)

// The keywords of extended header records that are used.
const (
	recordPath     = "path"
	recordLink     = "linkpath"
	recordSize     = "size"
	recordModified = "mtime"
	recordCharset  = "hdrcharset" // of the other records
	charsetBinary  = "BINARY"     // they are in none that is known

	sparsePrefix = "GNU.sparse."
	sparseMajor  = sparsePrefix + "major"
	sparseName   = sparsePrefix + "name"
	sparseSize   = sparsePrefix + "size"
	sparseReal   = sparsePrefix + "realsize"
	sparseMap    = sparsePrefix + "map"
	sparseOffset = sparsePrefix + "offset"
	sparseLength = sparsePrefix + "numbytes"
)

// used reports whether a keyword is one of those.
func used(key string) bool {
	switch key {
	case recordPath, recordLink, recordSize, recordModified, sparseMajor, sparseName, sparseSize, sparseReal, sparseMap, volumeLabel, volumeFile, folderList:
		return true
	}
	return false
}

// noting is used, and notes what else there is.
func noting(also *archive.Facts) func(key string) bool {
	return func(key string) bool {
		switch {
		case key == "atime" || key == "ctime" || strings.HasSuffix(key, ".creationtime"):
			*also |= archive.Times
		case key == "comment":
			*also |= archive.Comment
		case strings.Contains(key, ".xattr.") || strings.Contains(key, ".acl.") || strings.HasSuffix(key, ".fflags"):
			*also |= archive.Attributes
		}
		return used(key)
	}
}

// records are those of an entry, and of the global headers before it.
type records struct{ own, global map[string]string }

func (r records) get(key string) (value string, found bool) {
	if value, found = r.own[key]; !found {
		value, found = r.global[key]
	}
	return value, found && value != "" // an empty one takes back what others say
}

// readRecords reads the records of an extended header: a length, a space, a
// keyword, '=', a value and a line end. It takes those that are wanted. The
// records of sparse format 0.0 repeat, so that their order counts: their values
// are returned.
func readRecords(data []byte, into map[string]string, wanted func(key string) bool) (sparse []string, err error) {
	for len(bytes.TrimLeft(data, "\x00")) > 0 { // some writers fill up with NULs
		digits, rest, found := bytes.Cut(data, []byte{' '})
		length, err := strconv.Atoi(string(digits))
		if !found || err != nil || length > len(data) || length < len(digits)+3 || data[length-1] != '\n' {
			return nil, errors.New("an extended record has the wrong length")
		}
		key, value, found := strings.Cut(string(rest[:length-len(digits)-2]), "=")
		if !found {
			return nil, errors.New("an extended record has no value")
		}
		switch key {
		case sparseOffset, sparseLength:
			sparse = append(sparse, value)
		}
		if wanted(key) {
			into[key] = value
		}
		data = data[length:]
	}
	return sparse, nil
}

// parseTime reads seconds with a fraction, "-1.25" too.
func parseTime(text string) (time.Time, error) {
	if strings.ContainsAny(text, "eE") { // some writers leave it to a library how a small one is written
		seconds, err := strconv.ParseFloat(text, 64)
		if err != nil || math.Abs(seconds) > 1<<53 {
			return time.Time{}, errors.New("not a time")
		}
		whole, fraction := math.Modf(seconds)
		return time.Unix(int64(whole), int64(fraction*1e9)), nil
	}
	whole, fraction, _ := strings.Cut(text, ".")
	seconds, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || seconds == math.MinInt64 {
		return time.Time{}, errors.New("not a time")
	}
	nanoseconds, err := strconv.ParseInt((fraction + "000000000")[:9], 10, 64)
	if err != nil || nanoseconds < 0 {
		return time.Time{}, errors.New("not a time")
	}
	if strings.HasPrefix(whole, "-") {
		nanoseconds = -nanoseconds
	}
	return time.Unix(seconds, nanoseconds), nil
}
