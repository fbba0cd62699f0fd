module widecrate/bench

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2 // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/dsnet/compress v0.0.1
	github.com/dustin/go-humanize v1.1.0
	github.com/hanwen/go-fuse/v2 v2.12.1
	github.com/hashicorp/go-retryablehttp v0.7.8 // indirect
	github.com/klauspost/compress v1.20.3
	github.com/klauspost/pgzip v1.3.0
	github.com/klauspost/readahead v1.4.0
	github.com/maruel/natural v1.3.0 // indirect
	github.com/pierrec/lz4/v4 v4.1.33 // indirect
	github.com/pkg/sftp v1.13.12
	github.com/ulikunitz/xz v0.5.17
	golang.org/x/crypto v0.59.0
	golang.org/x/net v0.62.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/sys v0.50.0 // indirect
	golang.org/x/text v0.44.0 // indirect
	gonum.org/v1/plot v0.17.0
)

require (
	codeberg.org/go-fonts/liberation v0.5.0 // indirect
	codeberg.org/go-latex/latex v0.2.0 // indirect
	codeberg.org/go-pdf/fpdf v0.11.1 // indirect
	git.sr.ht/~sbinet/gg v0.7.0 // indirect
	github.com/ajstarks/svgo v0.0.0-20211024235047-1546f124cd8b // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	github.com/hashicorp/go-cleanhttp v0.5.2 // indirect
	github.com/kr/fs v0.1.0 // indirect
	golang.org/x/image v0.45.0 // indirect
)

require widecrate v0.0.0

replace widecrate => ../
