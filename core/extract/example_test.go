package extract_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"widecrate/core/create"
	"widecrate/core/extract"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

func Example() {
	dir, err := os.MkdirTemp("", "tidewatch-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	day := filepath.Join(dir, "osk-bay.zip")
	if _, err := create.Run(context.Background(), create.Options{Archive: day, Texts: []create.Text{{Path: "levels.csv", Text: "12:00,2640\n"}}}); err != nil {
		panic(err)
	}

	// The archives of a folder, each into its own folder beside it.
	sources, err := source.Find(context.Background(), source.Request{Names: []string{dir}})
	if err != nil {
		panic(err)
	}
	err = extract.Run(context.Background(), extract.Options{Request: walk.Request{Sources: sources}}, func(e report.Event) {
		if o, ok := e.(*report.Unpacked); ok {
			fmt.Println(filepath.Base(o.Target), o.Bytes, o.Err)
		}
	})
	fmt.Println(err)
	// Output:
	// osk-bay 11 <nil>
	// <nil>
}
