package create_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"widecrate/core/create"
)

func Example() {
	dir, err := os.MkdirTemp("", "tidewatch-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	if err := os.WriteFile(filepath.Join(dir, "levels.csv"), []byte("12:00,2640\n"), 0o666); err != nil {
		panic(err)
	}

	made, err := create.Run(context.Background(), create.Options{
		Archive:  filepath.Join(dir, "hand-over.zip"),
		Sources:  []string{filepath.Join(dir, "levels.csv")},
		ReadBack: true,
	})
	if err != nil {
		panic(err)
	}
	fmt.Println(made.Format, made.Files, made.Size, made.ReadBack)
	// Output: zip 1 11 1
}
