module tugline

go 1.26.8

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/alecthomas/units v0.0.0-20240927000941-0f3dac36c52b
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/boombuler/barcode v1.1.0
	github.com/chromedp/chromedp v0.23.0
	github.com/creack/pty v1.1.24
	github.com/fatih/color v1.19.0
	github.com/fsnotify/fsnotify v1.10.1
	github.com/gofrs/flock v0.13.1
	github.com/hashicorp/go-version v1.9.0
	github.com/joho/godotenv v1.5.1
	github.com/mattn/go-runewidth v0.0.31
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/pierrec/lz4/v4 v4.1.33
	github.com/pmezard/go-difflib v1.0.0
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/stretchr/testify v1.12.1
	github.com/zeebo/blake3 v0.2.4
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
	mvdan.cc/sh/v3 v3.14.1
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/chromedp/cdproto v0.159.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.12 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
