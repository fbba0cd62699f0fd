package crypt

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is locked opens with the password alone, in pieces of any size, and a bit
// that was changed is found.
func TestLock(t *testing.T) {
	for _, strength := range []Strength{1, 2, 3} {
		for _, size := range []int{0, 1, pieceLength - 1, pieceLength, 5000, 3*worthwhile + 10} {
			plain := bytes.Repeat([]byte("0123456789"), size/10+1)[:size]
			keys, front, err := Lock("gezeiten", strength)
			require.NoError(t, err)
			require.Len(t, front, strength.SaltLength()+VerifyLength)
			var b bytes.Buffer
			w, err := keys.Writer(&b)
			require.NoError(t, err)
			for rest := bytes.Clone(plain); len(rest) > 0; {
				n := min(len(rest), 1+len(rest)/3)
				_, err := w.Write(rest[:n])
				require.NoError(t, err)
				rest = rest[n:]
			}
			require.NoError(t, w.Close())
			require.Equal(t, size+CodeLength, b.Len())

			salt, verify := front[:strength.SaltLength()], [VerifyLength]byte(front[strength.SaltLength():])
			same, ok, err := NewAES("gezeiten", strength, salt, verify)
			require.NoError(t, err)
			require.True(t, ok)
			code := [CodeLength]byte(b.Bytes()[size:])
			read := func(packed []byte) ([]byte, error) {
				r, err := same.Reader(bytes.NewReader(packed), code)
				require.NoError(t, err)
				var plain bytes.Buffer
				_, err = io.CopyBuffer(struct{ io.Writer }{&plain}, r, make([]byte, worthwhile))
				return plain.Bytes(), err
			}
			got, err := read(b.Bytes()[:size])
			require.NoError(t, err)
			assert.Equal(t, plain, append([]byte{}, got...))
			if size > 0 {
				broken := bytes.Clone(b.Bytes()[:size])
				broken[size/2] ^= 1
				_, err = read(broken)
				assert.ErrorIs(t, err, ErrCode)
			}
			_, again, err := Lock("gezeiten", strength)
			require.NoError(t, err)
			assert.NotEqual(t, front, again, "each entry has a salt of its own")
		}
	}
}
