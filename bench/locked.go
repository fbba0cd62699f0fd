package main

import (
	"bytes"
	"crypto/aes"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/codec"
)

var le = binary.LittleEndian

// sealed is an entry of a ZIP that is written field by field.
type sealed struct {
	name   string
	data   []byte // packed, and locked or not
	method uint16
	flags  uint16
	crc    uint32
	size   int
	extra  []byte
}

func writeSealed(path string, entries []sealed) {
	var out, directory bytes.Buffer
	for _, e := range entries {
		common := le.AppendUint16(nil, 51)
		for _, v := range []uint16{e.flags, e.method, 0, 0} {
			common = le.AppendUint16(common, v)
		}
		for _, v := range []uint32{e.crc, uint32(len(e.data)), uint32(e.size)} {
			common = le.AppendUint32(common, v)
		}
		common = le.AppendUint16(le.AppendUint16(common, uint16(len(e.name))), uint16(len(e.extra)))
		at := out.Len()
		out.Write(append(le.AppendUint32(nil, 0x04034b50), common...))
		out.WriteString(e.name + string(e.extra))
		out.Write(e.data)
		directory.Write(append(le.AppendUint16(le.AppendUint32(nil, 0x02014b50), 51), common...))
		directory.Write(make([]byte, 10))
		directory.Write(le.AppendUint32(nil, uint32(at)))
		directory.WriteString(e.name + string(e.extra))
	}
	end := le.AppendUint64(nil, 0x06054b50)
	end = le.AppendUint16(le.AppendUint16(end, uint16(len(entries))), uint16(len(entries)))
	end = le.AppendUint32(le.AppendUint32(end, uint32(directory.Len())), uint32(out.Len()))
	must(os.WriteFile(path, bytes.Join([][]byte{out.Bytes(), directory.Bytes(), end, {0, 0}}, nil), 0o666))
}

const password = "gezeiten"

// lockAES locks data with AES-256, block by block.
func lockAES(data []byte) []byte {
	salt := bytes.Repeat([]byte{0x5a}, 16)
	keys, err := pbkdf2.Key(sha1.New, password, salt, 1000, 66)
	must(err)
	block, err := aes.NewCipher(keys[:32])
	must(err)
	out := bytes.Clone(data)
	var counter, stream [16]byte
	for i := range out {
		if i%16 == 0 {
			le.PutUint64(counter[:], uint64(i/16+1))
			block.Encrypt(stream[:], counter[:])
		}
		out[i] ^= stream[i%16]
	}
	mac := hmac.New(sha1.New, keys[32:64])
	mac.Write(out)
	return bytes.Join([][]byte{salt, keys[64:], out, mac.Sum(nil)[:10]}, nil)
}

var aesExtra = []byte{0x01, 0x99, 7, 0, 2, 0, 'A', 'E', 3, 8, 0}

func deflated(data []byte) []byte {
	m, _ := codec.ByName(codec.Deflate)
	var b bytes.Buffer
	enc, err := m.Encode(&b, codec.EncodeOptions{})
	must(err)
	_, err = enc.Write(data)
	must(err)
	must(enc.Close())
	return b.Bytes()
}

// lockedText compares locked entries of 50 MB of text with the same unlocked.
func lockedText(b *bench) result {
	r := rand.New(rand.NewPCG(9, 9))
	var plain, locked []sealed
	for i := range 4 {
		data := words(r, 50_000_000)
		packed := deflated(data)
		e := sealed{name: fmt.Sprint("text-", i), data: packed, method: 8, crc: crc32.ChecksumIEEE(data), size: len(data)}
		plain = append(plain, e)
		e.data, e.method, e.flags, e.extra, e.crc = lockAES(packed), 99, 1, aesExtra, 0
		locked = append(locked, e)
	}
	a, z, out := filepath.Join(b.dir, "plain.zip"), filepath.Join(b.dir, "locked.zip"), filepath.Join(b.dir, "out")
	writeSealed(a, plain)
	writeSealed(z, locked)
	defer os.Remove(a)
	defer os.Remove(z)
	candidates := b.candidates(0)
	return b.pair(remover(out), func() { b.time("extract", a, "--into", out, "-q") }, "extract", z, "--into", out, "-q", "--password-file", candidates)
}

// candidates writes a list with the right password after n wrong ones.
func (b *bench) candidates(n int) string {
	var list strings.Builder
	for i := range n {
		fmt.Fprintf(&list, "wrong-%d\n", i)
	}
	list.WriteString(password + "\n")
	path := filepath.Join(b.dir, "candidates")
	must(os.WriteFile(path, []byte(list.String()), 0o600))
	return path
}

// candidatesAES compares 500 candidates with 500 derivations of keys.
func candidatesAES(b *bench) result {
	path, out := filepath.Join(b.dir, "locked.zip"), filepath.Join(b.dir, "out")
	data := []byte("1,2,3")
	writeSealed(path, []sealed{{"levels.csv", lockAES(deflated(data)), 99, 1, 0, len(data), aesExtra}})
	defer os.Remove(path)
	derive := func() {
		for i := range 500 {
			_, err := pbkdf2.Key(sha1.New, fmt.Sprint("wrong-", i), bytes.Repeat([]byte{0x5a}, 16), 1000, 66)
			must(err)
		}
	}
	return b.pair(remover(out), derive, "extract", path, "--into", out, "-q", "--password-file", b.candidates(499))
}

// candidatesTraditional times 10,000 candidates on one entry.
func candidatesTraditional(b *bench) result {
	path, out := filepath.Join(b.dir, "locked.zip"), filepath.Join(b.dir, "out")
	data := words(rand.New(rand.NewPCG(1, 9)), 100_000)
	packed, crc := deflated(data), crc32.ChecksumIEEE(data)
	writeSealed(path, []sealed{{"levels.csv", lockTraditional(append(append(make([]byte, 11), byte(crc>>24)), packed...)), 8, 1, crc, len(data), nil}})
	defer os.Remove(path)
	list := b.candidates(9_999)
	var ours []time.Duration
	for range b.runs {
		must(os.RemoveAll(out))
		ours = append(ours, b.time("extract", path, "--into", out, "-q", "--password-file", list))
	}
	must(os.RemoveAll(out))
	took := median(ours)
	return result{value: took.Seconds(), ours: took}
}

// lockTraditional locks data, its header included, in place.
func lockTraditional(data []byte) []byte {
	k0, k1, k2 := uint32(0x12345678), uint32(0x23456789), uint32(0x34567890)
	update := func(c byte) {
		k0 = crc32.IEEETable[byte(k0)^c] ^ k0>>8
		k1 = (k1+k0&0xff)*134775813 + 1
		k2 = crc32.IEEETable[byte(k2)^byte(k1>>24)] ^ k2>>8
	}
	for i := range len(password) {
		update(password[i])
	}
	for i, c := range data {
		v := k2 | 2
		data[i] = c ^ byte(v*(v^1)>>8)
		update(c)
	}
	return data
}
