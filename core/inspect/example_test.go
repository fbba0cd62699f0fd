package inspect_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/inspect"
	"widecrate/core/source"
	"widecrate/core/walk"
)

func Example() {
	dir, err := os.MkdirTemp("", "tidewatch-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	day := filepath.Join(dir, "osk-bay.tar.gz")
	if _, err := create.Run(context.Background(), create.Options{Archive: day, Texts: []create.Text{{Path: "levels.csv", Text: "12:00,2640\n"}}}); err != nil {
		panic(err)
	}

	sources, err := source.Find(context.Background(), source.Request{Names: []string{day}})
	if err != nil {
		panic(err)
	}
	err = inspect.Run(context.Background(), inspect.Options{Request: walk.Request{Sources: sources}}, func(a *inspect.Archive, err error) error {
		for _, e := range a.Entries(new(choose.Tally)) {
			fmt.Println(a.Format, e.Path, e.Size)
		}
		return err
	})
	fmt.Println(err)
	// Output:
	// tar.gz levels.csv 11
	// <nil>
}
