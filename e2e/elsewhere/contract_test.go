package elsewhere

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"widecrate/core/remote"
	"widecrate/core/storage"
	"widecrate/core/storage/storagetest"
	"widecrate/core/systemtest"
	"widecrate/e2e/places"
)

// Real servers and file systems hold to the one contract of places.
func TestEveryPlace(t *testing.T) {
	systemtest.Long(t, "servers and file systems that it starts")
	for _, kind := range servers[5:] {
		t.Run(kind, func(t *testing.T) {
			dir, err := os.MkdirTemp("", "widecrate-hosted-*")
			require.NoError(t, err)
			t.Cleanup(func() { os.RemoveAll(dir) })
			writable(t, dir)
			at := startServer(t, kind, dir)
			o := remote.Options{}
			for i := 0; i+1 < len(at.options); i += 2 {
				switch at.options[i] {
				case "--identity":
					o.Identity = at.options[i+1]
				case "--known-hosts":
					o.KnownHosts = at.options[i+1]
				}
			}
			sites := storage.Sites{Context: t.Context(), Client: remote.New(o)}
			storagetest.Contract(t, sites, strings.TrimSuffix(at.address, "/"), true, storagetest.Names())
		})
	}
	for _, kind := range places.Kinds {
		t.Run(kind, func(t *testing.T) {
			place, err := places.Mount(kind)
			if err != nil {
				t.Skip(err)
			}
			t.Cleanup(func() { _ = place.Unmount() })
			storagetest.Contract(t, storage.Sites{}, place.Dir, false, []string{"a b#c%d&f=g", "-rf", ".hidden", strings.Repeat("n", 140)})
		})
	}
}
