package zip

import (
	"io/fs"
	"time"

	"widecrate/core/archive"
	"widecrate/core/crypt"
)

// crc is what the headers say: of a locked entry, nothing.
func (h *header) crc() uint32 {
	if !h.entry.HasCRC32 {
		return 0
	}
	return h.entry.CRC32
}

// method is the number of the compression method, or with AES that of the lock.
func (h *header) method() uint16 {
	if h.entry.Encrypted {
		return methodAES
	}
	return toWrite[h.entry.Method].number
}

// local encodes the local header (4.3.7).
func (h *header) local(packed, size int64) []byte {
	crc := h.crc()
	if h.flags&flagDescriptor != 0 {
		crc = 0
	}
	date, clock := dosTime(h.entry.Modified)
	b := le.AppendUint32(nil, localSignature)
	b = le.AppendUint16(b, h.version())
	b = le.AppendUint16(b, h.flags)
	b = le.AppendUint16(b, h.method())
	b = le.AppendUint16(b, clock)
	b = le.AppendUint16(b, date)
	b = le.AppendUint32(b, crc)
	var extra []byte
	if h.zip64 {
		extra = appendZIP64(extra, size, packed)
		size, packed = max32, max32
	}
	extra = h.appendExtra(extra)
	b = le.AppendUint32(b, uint32(packed))
	b = le.AppendUint32(b, uint32(size))
	b = le.AppendUint16(b, uint16(len(h.name)))
	b = le.AppendUint16(b, uint16(len(extra)))
	b = append(b, h.name...)
	return append(b, extra...)
}

// appendExtra adds the extra fields that both headers have: the time, and how
// the entry is locked (appendix E).
func (h *header) appendExtra(extra []byte) []byte {
	extra = appendTimestamp(extra, h.entry.Modified)
	if !h.entry.Encrypted {
		return extra
	}
	const length, version = 7, 2
	extra = le.AppendUint16(extra, extraAES)
	extra = le.AppendUint16(extra, length)
	extra = le.AppendUint16(extra, version)
	extra = append(extra, 'A', 'E', byte(aesStrength))
	return le.AppendUint16(extra, toWrite[h.entry.Method].number)
}

// aesStrength is that of new entries: 256 bits.
const aesStrength = crypt.Strength(3)

// descriptor encodes the record after the data (4.3.9).
func (h *header) descriptor() []byte {
	b := le.AppendUint32(nil, descriptorSignature)
	b = le.AppendUint32(b, h.crc())
	if h.zip64 {
		b = le.AppendUint64(b, uint64(h.entry.Packed))
		return le.AppendUint64(b, uint64(h.entry.Size))
	}
	b = le.AppendUint32(b, uint32(h.entry.Packed))
	return le.AppendUint32(b, uint32(h.entry.Size))
}

// version is the least that an unpacker has to know.
func (h *header) version() uint16 {
	version := toWrite[h.entry.Method].version
	if h.entry.Kind == archive.Folder {
		version = versionDeflate
	}
	if h.zip64 {
		version = max(version, versionZIP64)
	}
	if h.entry.Encrypted {
		version = max(version, versionAES)
	}
	return version
}

// attributes encodes kind and permissions (4.4.15).
func attributes(e archive.Entry) uint32 {
	if !e.HasMode {
		e.Mode = 0o644
		if e.Kind == archive.Folder {
			e.Mode = 0o755
		}
	}
	mode, dos := uint32(e.Mode&fs.ModePerm), uint32(0)
	switch e.Kind {
	case archive.Folder:
		mode |= archive.ModeFolder
		dos |= dosFolder
	case archive.Symlink:
		mode |= archive.ModeSymlink
	default:
		mode |= archive.ModeFile
	}
	if e.Mode&0o200 == 0 {
		dos |= dosReadOnly
	}
	return mode<<16 | dos
}

func appendZIP64(extra []byte, values ...int64) []byte {
	extra = le.AppendUint16(extra, extraZIP64)
	extra = le.AppendUint16(extra, uint16(8*len(values)))
	for _, v := range values {
		extra = le.AppendUint64(extra, uint64(v))
	}
	return extra
}

// appendTimestamp adds the extended timestamp for what its 32 bits can hold.
func appendTimestamp(extra []byte, t time.Time) []byte {
	seconds := t.Unix()
	if t.IsZero() || seconds != int64(int32(seconds)) {
		return extra
	}
	extra = le.AppendUint16(extra, extraTimestamp)
	extra = le.AppendUint16(extra, 5)
	return le.AppendUint32(append(extra, 1), uint32(seconds))
}
