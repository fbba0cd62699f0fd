package core

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widecrate/core/create"
	"widecrate/core/extract"
	"widecrate/core/fault"
	"widecrate/core/inspect"
	"widecrate/core/job"
	"widecrate/core/newfile"
	"widecrate/core/parts/cut"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/revise"
	"widecrate/core/source"
	"widecrate/core/verify"
	"widecrate/core/walk"
)

// A request of which nothing is filled in does nothing or is a clear error: it
// never hangs and never panics.
func TestZeroValues(t *testing.T) {
	none := []source.Source{{}}
	for name, c := range map[string]struct {
		run  func() error
		kind error // nil: no error
	}{
		"find":    {func() error { _, err := source.Find(t.Context(), source.Request{}); return err }, nil},
		"extract": {func() error { return extract.Run(t.Context(), extract.Options{}, nil) }, nil},
		"extract nothing": {func() error {
			return extract.Run(t.Context(), extract.Options{Request: walk.Request{Sources: none}}, nil)
		}, nil}, // which the sink receives
		"stream": {func() error { return extract.Stream(t.Context(), extract.Options{}, nil, nil) }, nil},
		"inspect": {func() error {
			return inspect.Run(t.Context(), inspect.Options{Request: walk.Request{Sources: none}}, func(_ *inspect.Archive, err error) error { return err })
		}, fault.Unreadable},
		"verify":   {func() error { return verify.Run(t.Context(), verify.Options{}, nil) }, nil},
		"compare":  {func() error { _, err := verify.Compare(t.Context(), verify.Comparison{}); return err }, fault.Unreadable},
		"create":   {func() error { _, err := create.Run(t.Context(), create.Options{}); return err }, fault.Usage},
		"each":     {func() error { return create.RunEach(t.Context(), create.Options{}, nil, nil) }, nil},
		"weigh":    {func() error { _, err := create.Weighing{}.Run(t.Context(), nil); return err }, fault.NoMatch},
		"convert":  {func() error { return revise.Conversion{}.Run(t.Context(), nil) }, fault.Usage},
		"edit":     {func() error { return revise.Edit{}.Run(t.Context(), nil) }, fault.Usage},
		"split":    {func() error { _, err := cut.Split(t.Context(), "", "", cut.Options{}, nil); return err }, fault.Unreadable},
		"open":     {func() error { _, err := walk.Open(t.Context(), source.Source{}, walk.Opening{}); return err }, fault.Unreadable},
		"receipts": {func() error { _, err := receipt.Load(newfile.Sites{}); return err }, nil},
		"receipt": {func() error {
			_, err := receipt.Append(newfile.Sites{}, "", receipt.Run{}, fault.Wording{})
			return err
		}, fault.Unwritable},
		"address": {func() error {
			_, err := remote.New(remote.Options{}).Address("")
			return err
		}, fault.Usage},
		"jobs": {func() error {
			return job.Parse("", []byte("widecrate: 1\nenv: [A]\njobs: [{name: a, x: }]"), &job.Language{}, nil, nil).Err()
		}, fault.Usage},
		"new parts": {func() error { _, err := cut.Create("", cut.Options{}); return err }, fault.Usage},
	} {
		done := make(chan error, 1)
		go func() { done <- c.run() }()
		select {
		case err := <-done:
			if c.kind == nil {
				assert.NoError(t, err, name)
			} else {
				assert.ErrorIs(t, err, c.kind, name)
			}
		case <-time.After(10 * time.Second):
			t.Errorf("%s hangs", name)
		}
	}
}
