module widecrate/e2e/heavy

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2 // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/coder/websocket v1.8.15
	github.com/dsnet/compress v0.0.1 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/hanwen/go-fuse/v2 v2.12.1
	github.com/hashicorp/go-retryablehttp v0.7.8 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/klauspost/readahead v1.4.0 // indirect
	github.com/maruel/natural v1.3.0 // indirect
	github.com/pierrec/lz4/v4 v4.1.33 // indirect
	github.com/pkg/sftp v1.13.12 // indirect
	github.com/stretchr/testify v1.12.1
	github.com/ulikunitz/xz v0.5.17 // indirect
	golang.org/x/crypto v0.59.0 // indirect
	golang.org/x/net v0.62.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/sys v0.50.0 // indirect
	golang.org/x/text v0.44.0 // indirect
	k8s.io/api v0.37.2
	sigs.k8s.io/yaml v1.6.0
)

require (
	github.com/fxamacker/cbor/v2 v2.9.1 // indirect
	github.com/go-logr/logr v1.4.3 // indirect
	github.com/hashicorp/go-cleanhttp v0.5.2 // indirect
	github.com/json-iterator/go v1.1.12 // indirect
	github.com/kr/fs v0.1.0 // indirect
	github.com/modern-go/concurrent v0.0.0-20180306012644-bacd9c7ef1dd // indirect
	github.com/modern-go/reflect2 v1.0.3-0.20250322232337-35a7c28c31ee // indirect
	github.com/x448/float16 v0.8.4 // indirect
	go.yaml.in/yaml/v2 v2.4.4 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	gopkg.in/inf.v0 v0.9.1 // indirect
	k8s.io/apimachinery v0.37.2 // indirect
	k8s.io/klog/v2 v2.140.0 // indirect
	k8s.io/kube-openapi v0.0.0-20260721132016-d427ff9ee9ad // indirect
	k8s.io/utils v0.0.0-20260626114624-be93311217bd // indirect
	sigs.k8s.io/json v0.0.0-20250730193827-2d320260d730 // indirect
	sigs.k8s.io/randfill v1.0.0 // indirect
	sigs.k8s.io/structured-merge-diff/v6 v6.4.2 // indirect
)

require widecrate v0.0.0

replace widecrate => ../../
