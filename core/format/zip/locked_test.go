package zip

import (
	"bytes"
	"crypto/aes"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// lockAES locks data as appendix E says, block by block.
func lockAES(password string, strength int, data []byte) []byte {
	n := 8 + 8*strength
	salt := bytes.Repeat([]byte{0x5a}, n/2)
	keys, err := pbkdf2.Key(sha1.New, password, salt, 1000, 2*n+2)
	if err != nil {
		panic(err)
	}
	block, err := aes.NewCipher(keys[:n])
	if err != nil {
		panic(err)
	}
	out := bytes.Clone(data)
	for i := range out {
		if i%16 == 0 {
			var counter, stream [16]byte
			le.PutUint32(counter[:], uint32(i/16+1))
			block.Encrypt(stream[:], counter[:])
			for k := i; k < min(i+16, len(out)); k++ {
				out[k] ^= stream[k-i]
			}
		}
	}
	mac := hmac.New(sha1.New, keys[n:2*n])
	mac.Write(out)
	return bytes.Join([][]byte{salt, keys[2*n:], out, mac.Sum(nil)[:10]}, nil)
}

// lockTraditional locks data as 6.1 says.
func lockTraditional(password string, check byte, data []byte) []byte {
	k0, k1, k2 := uint32(0x12345678), uint32(0x23456789), uint32(0x34567890)
	update := func(c byte) {
		k0 = crc32.IEEETable[byte(k0)^c] ^ k0>>8
		k1 = (k1+k0&0xff)*134775813 + 1
		k2 = crc32.IEEETable[byte(k2)^byte(k1>>24)] ^ k2>>8
	}
	for i := range len(password) {
		update(password[i])
	}
	plain := append(bytes.Repeat([]byte{7}, 11), check)
	plain = append(plain, data...)
	for i, c := range plain {
		v := k2 | 2
		plain[i] = c ^ byte(v*(v^1)>>8)
		update(c)
	}
	return plain
}

func aesField(version, strength, method uint16) string {
	return field(extraAES, append(numbers(version), 'A', 'E', byte(strength), byte(method), byte(method>>8)))
}

// locked makes an entry that is locked with a password in one of the ways.
func locked(way, password, data string) fake {
	f := fake{name: "levels.csv", data: data, method: 8, flags: flagEncrypted}
	switch way {
	case "traditional":
		f.packed = func(b []byte) []byte { return lockTraditional(password, byte(crc32.ChecksumIEEE([]byte(data))>>24), b) }
	case "with descriptor":
		f.descriptor, f.clock = "signed", 0x4c00
		f.packed = func(b []byte) []byte { return lockTraditional(password, 0x4c, b) }
	default:
		var version, strength uint16
		fmt.Sscanf(way, "AE-%d %d", &version, &strength)
		f.centralExtra, f.localExtra = aesField(version, strength, 8), aesField(version, strength, 8)
		inner := f
		f.method = methodAES
		f.packed = func([]byte) []byte { return lockAES(password, int(strength), inner.pack()) }
		if version == 2 {
			f.local, f.central = set(14, 0, 0, 0, 0), set(16, 0, 0, 0, 0)
		}
	}
	return f
}

var ways = []string{"traditional", "with descriptor", "AE-1 1", "AE-1 2", "AE-1 3", "AE-2 1", "AE-2 2", "AE-2 3"}

func open(t *testing.T, archived []byte, passwords ...string) (string, error) {
	t.Helper()
	r, err := Open(bytes.NewReader(archived), int64(len(archived)), archive.Options{Passwords: passwords})
	require.NoError(t, err)
	require.True(t, r.Entries()[0].Encrypted)
	require.Equal(t, "deflate", r.Entries()[0].Method)
	var all strings.Builder
	for i := range r.Entries() {
		d, err := r.Open(i)
		if err != nil {
			return "", err
		}
		defer d.Close()
		if _, err := io.Copy(&all, d); err != nil {
			return "", err
		}
	}
	return all.String(), nil
}

func TestLocked(t *testing.T) {
	long := strings.Repeat(levels, 15) + noise(200_000)
	var many []string
	for i := range 700 {
		many = append(many, fmt.Sprint("wrong", i))
	}
	for _, way := range ways {
		t.Run(way, func(t *testing.T) {
			for _, data := range []string{"", "1", levels, long} {
				b := built{entries: []fake{locked(way, "gezeiten", data), locked(way, "gezeiten", data)}}.bytes()
				got, err := open(t, b, "gezeiten")
				require.NoError(t, err)
				require.True(t, got == data+data)
			}
			b := built{entries: []fake{locked(way, "gezeiten", levels), locked(way, "ebbe", levels)}}.bytes()
			candidates := append(append([]string{"ebbe"}, many[:20]...), "gezeiten")
			if strings.HasPrefix(way, "AE") {
				candidates = candidates[:5]
				candidates[3] = "gezeiten"
			} else {
				candidates = append(many, candidates...) // some pass the one byte that says
			}
			got, err := open(t, b, candidates...)
			require.NoError(t, err)
			require.True(t, got == levels+levels)

			for i := 0; i < 1000 && !strings.HasPrefix(way, "AE"); i++ { // one in 256 looks as if the first password opened it
				other := fmt.Sprint("ebbe", i)
				b := built{entries: []fake{locked(way, "gezeiten", levels), locked(way, other, levels)}}.bytes()
				got, err := open(t, b, "gezeiten", other)
				require.NoError(t, err, other)
				require.True(t, got == levels+levels)
			}

			_, err = open(t, b)
			assert.ErrorIs(t, err, fault.Password)
			assert.Contains(t, err.Error(), "there is no password")
			_, err = open(t, b, "flut", "Gezeiten")
			assert.ErrorIs(t, err, fault.Password)
			assert.NotContains(t, err.Error(), "flut", "passwords are not shown")

			broken := locked(way, "gezeiten", long)
			whole := broken.packed
			broken.packed = func(b []byte) []byte { p := whole(b); p[len(p)/2] ^= 1; return p }
			_, err = open(t, built{entries: []fake{broken}}.bytes(), "gezeiten")
			require.Error(t, err)
			if strings.HasPrefix(way, "AE") {
				assert.ErrorIs(t, err, fault.Damaged)
			} else {
				assert.ErrorIs(t, err, fault.Password)
				assert.Contains(t, err.Error(), "wrong, or its data is damaged")
			}

			// A password that does not open another entry may have passed here by chance.
			b = built{entries: []fake{locked(way, "ebbe", levels), broken}}.bytes()
			r, err := Open(bytes.NewReader(b), int64(len(b)), archive.Options{Passwords: []string{"gezeiten"}})
			require.NoError(t, err)
			for i := range r.Entries() {
				d, err := r.Open(i)
				if err == nil {
					_, err = io.Copy(io.Discard, d)
					d.Close()
				}
				assert.ErrorIs(t, err, fault.Password)
			}
		})
	}
}
