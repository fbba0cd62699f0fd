module widecrate

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/coder/websocket v1.8.15
	github.com/dsnet/compress v0.0.1
	github.com/dustin/go-humanize v1.1.0
	github.com/fatih/color v1.19.0
	github.com/go-analyze/charts v0.6.4
	github.com/goccy/go-json v0.12.0
	github.com/goccy/go-yaml v1.19.2
	github.com/hanwen/go-fuse/v2 v2.12.1
	github.com/hashicorp/go-retryablehttp v0.7.8
	github.com/jdx/go-netrc v1.0.0
	github.com/klauspost/compress v1.20.3
	github.com/klauspost/pgzip v1.3.0
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
	gonum.org/v1/plot v0.17.0
	k8s.io/api v0.37.2
	maragu.dev/gomponents v1.2.0
	pgregory.net/rapid v1.3.0
	sigs.k8s.io/yaml v1.6.0
)

require (
	codeberg.org/go-fonts/liberation v0.5.0 // indirect
	codeberg.org/go-latex/latex v0.2.0 // indirect
	codeberg.org/go-pdf/fpdf v0.11.1 // indirect
	git.sr.ht/~sbinet/gg v0.7.0 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/ajstarks/svgo v0.0.0-20211024235047-1546f124cd8b // indirect
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/fxamacker/cbor/v2 v2.9.1 // indirect
	github.com/go-analyze/bulk v0.1.6 // indirect
	github.com/go-logr/logr v1.4.3 // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	github.com/hashicorp/go-cleanhttp v0.5.2 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/json-iterator/go v1.1.12 // indirect
	github.com/kr/fs v0.1.0 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	github.com/modern-go/concurrent v0.0.0-20180306012644-bacd9c7ef1dd // indirect
	github.com/modern-go/reflect2 v1.0.3-0.20250322232337-35a7c28c31ee // indirect
	github.com/x448/float16 v0.8.4 // indirect
	go.yaml.in/yaml/v2 v2.4.4 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/image v0.45.0 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	gopkg.in/inf.v0 v0.9.1 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	k8s.io/apimachinery v0.37.2 // indirect
	k8s.io/klog/v2 v2.140.0 // indirect
	k8s.io/kube-openapi v0.0.0-20260721132016-d427ff9ee9ad // indirect
	k8s.io/utils v0.0.0-20260626114624-be93311217bd // indirect
	kernel.org/pub/linux/libs/security/libcap/psx v1.2.78 // indirect
	sigs.k8s.io/json v0.0.0-20250730193827-2d320260d730 // indirect
	sigs.k8s.io/randfill v1.0.0 // indirect
	sigs.k8s.io/structured-merge-diff/v6 v6.4.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
