module widecrate

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/dsnet/compress v0.0.1
	github.com/dustin/go-humanize v1.1.0
	github.com/fatih/color v1.19.0
	github.com/go-analyze/charts v0.6.4
	github.com/goccy/go-yaml v1.19.2
	github.com/hashicorp/go-retryablehttp v0.7.8
	github.com/klauspost/compress v1.20.3
	github.com/klauspost/readahead v1.4.0
	github.com/landlock-lsm/go-landlock v0.11.2
	github.com/maruel/natural v1.3.0
	github.com/mattn/go-runewidth v0.0.31
	github.com/mitchellh/go-wordwrap v1.0.1
	github.com/pierrec/lz4/v4 v4.1.33
	github.com/pkg/sftp v1.13.12
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.10
	github.com/stretchr/testify v1.12.1
	github.com/ulikunitz/xz v0.5.17
	golang.org/x/crypto v0.59.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	golang.org/x/text v0.44.0
	maragu.dev/gomponents v1.2.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/go-analyze/bulk v0.1.6 // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	github.com/hashicorp/go-cleanhttp v0.5.2 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/kr/fs v0.1.0 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/image v0.45.0 // indirect
	kernel.org/pub/linux/libs/security/libcap/psx v1.2.78 // indirect
)
