// Package crypt decrypts ZIP entries, locked in either of the two common ways,
// and encrypts them in the stronger one. It knows passwords and streams, and nothing of archives.
package crypt

import (
	"hash/crc32"
	"io"
)

// HeaderLength is how many bytes stand in front of the data of an entry that is
// locked in the traditional way (application note, 6.1.3).
const HeaderLength = 12

// Traditional is the state of traditional decryption (6.1.5).
type Traditional struct{ keys [3]uint32 }

// NewTraditional sets the keys up with a password, and decrypts the header with
// them. Its last byte is to be check: ok is false with 255 of 256 wrong
// passwords, and true with the right one.
func NewTraditional(password string, header [HeaderLength]byte, check byte) (t Traditional, ok bool) {
	t.keys = [3]uint32{0x12345678, 0x23456789, 0x34567890}
	for i := range len(password) {
		t.update(password[i])
	}
	t.decrypt(header[:])
	return t, header[HeaderLength-1] == check
}

func (t *Traditional) update(plain byte) {
	t.keys[0] = crc32.IEEETable[byte(t.keys[0])^plain] ^ t.keys[0]>>8
	t.keys[1] = (t.keys[1]+t.keys[0]&0xff)*134775813 + 1
	t.keys[2] = crc32.IEEETable[byte(t.keys[2])^byte(t.keys[1]>>24)] ^ t.keys[2]>>8
}

// mask is the byte that the next one is masked with.
func (t *Traditional) mask() byte {
	v := t.keys[2] | 2
	return byte(v * (v ^ 1) >> 8)
}

func (t *Traditional) decrypt(p []byte) {
	for i, c := range p {
		c ^= t.mask()
		t.update(c)
		p[i] = c
	}
}

// Reader decrypts what r reads.
func (t Traditional) Reader(r io.Reader) io.Reader { return &traditionalReader{t, r} }

type traditionalReader struct {
	Traditional
	r io.Reader
}

func (t *traditionalReader) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.decrypt(p[:n])
	return n, err
}
