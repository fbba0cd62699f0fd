package crypt

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"hash"
	"io"
)

// What stands around the data of an entry that is locked with AES: a salt and
// two bytes that tell most wrong passwords in front, an authentication code
// behind.
const (
	VerifyLength = 2
	CodeLength   = 10
	iterations   = 1000
)

// Strength is the length of an AES key as the extra field of ZIP has it: 1, 2
// and 3 for 128, 192 and 256 bits.
type Strength byte

// Valid reports whether there is such a strength.
func (s Strength) Valid() bool { return s >= 1 && s <= 3 }

// KeyLength is in bytes.
func (s Strength) KeyLength() int { return 8 + 8*int(s) }

// SaltLength is half of it.
func (s Strength) SaltLength() int { return s.KeyLength() / 2 }

// AES has the keys that a password gives.
type AES struct{ encrypt, authenticate []byte }

// NewAES derives the keys from a password and a salt. They include two bytes
// that are to be verify: ok is false with 65,535 of 65,536 wrong passwords.
func NewAES(password string, s Strength, salt []byte, verify [VerifyLength]byte) (a AES, ok bool, err error) {
	n := s.KeyLength()
	keys, err := pbkdf2.Key(sha1.New, password, salt, iterations, 2*n+VerifyLength)
	if err != nil {
		return a, false, err
	}
	a.encrypt, a.authenticate = keys[:n], keys[n:2*n]
	return a, subtle.ConstantTimeCompare(keys[2*n:], verify[:]) == 1, nil
}

// ErrCode says that data is not what was locked with this password.
var ErrCode = errors.New("its authentication code is wrong")

// Reader decrypts what r reads, and at its end holds the code against it. The
// error is ErrCode when they differ.
func (a AES) Reader(r io.Reader, code [CodeLength]byte) (io.Reader, error) {
	block, err := aes.NewCipher(a.encrypt)
	if err != nil {
		return nil, err
	}
	return &aesReader{r: r, block: block, mac: hmac.New(sha1.New, a.authenticate), code: code}, nil
}

// The key stream is made in pieces: all counters, then each encrypted in place,
// then one XOR. The counter is little-endian, so that the library's own counter
// mode is of no use.
const pieceLength = 1024

type aesReader struct {
	r       io.Reader
	block   cipher.Block
	mac     hash.Hash
	code    [CodeLength]byte
	counter uint64
	stream  [pieceLength]byte
	left    []byte // of stream
}

func (a *aesReader) Read(p []byte) (int, error) {
	n, err := a.r.Read(p)
	a.mac.Write(p[:n])
	for rest := p[:n]; len(rest) > 0; {
		if len(a.left) == 0 {
			a.refill()
		}
		c := subtle.XORBytes(rest, rest, a.left)
		rest, a.left = rest[c:], a.left[c:]
	}
	if err == io.EOF && subtle.ConstantTimeCompare(a.mac.Sum(nil)[:CodeLength], a.code[:]) != 1 {
		err = ErrCode
	}
	return n, err
}

func (a *aesReader) refill() {
	clear(a.stream[:])
	for at := 0; at < pieceLength; at += aes.BlockSize {
		a.counter++
		binary.LittleEndian.PutUint64(a.stream[at:], a.counter)
	}
	for at := 0; at < pieceLength; at += aes.BlockSize {
		a.block.Encrypt(a.stream[at:], a.stream[at:])
	}
	a.left = a.stream[:]
}
