package remote

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What has a name already is not written over, unless it is what was sent before, whose answer was lost, or a part of that.
func TestNameIsTaken(t *testing.T) {
	for name, c := range map[string]struct {
		at, there, left string
		err             error
	}{
		"somebody else's": {"/a.zip.reason.txt", "theirs", "theirs", ErrThere},
		"it arrived":      {"/a.zip.reason.txt", "ours", "ours", nil},
		"a part of it":    {"/.widecrate-abcdefghijklmn-p1-0", "ou", "ours", nil},
		"free":            {"/a.zip.reason.txt", "", "ours", nil},
	} {
		stored := []byte(c.there)
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.Method == http.MethodPut && len(stored) > 0 && r.Header.Get("If-None-Match") == "*":
				w.WriteHeader(http.StatusPreconditionFailed)
			case r.Method == http.MethodPut:
				stored, _ = io.ReadAll(r.Body)
				w.WriteHeader(http.StatusCreated)
			default:
				http.ServeContent(w, r, "x", time.Unix(1, 0), bytes.NewReader(stored))
			}
		}))
		at, err := New(Options{Retries: -1}).Address(server.URL + c.at)
		require.NoError(t, err)
		f, err := at.Create(t.Context())
		require.NoError(t, err)
		_, err = io.WriteString(f, "ours")
		require.NoError(t, err)
		assert.ErrorIs(t, f.Sync(), c.err, name)
		require.NoError(t, f.Close())
		server.Close()
		assert.Equal(t, c.left, string(stored), name)
	}
}
