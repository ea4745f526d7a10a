module briskwarden.example/briskwarden

go 1.26.0

require (
	github.com/gaissmai/bart v0.30.0
	github.com/go-json-experiment/json v1.27.2
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/mattn/go-isatty v0.0.24
	github.com/rogpeppe/go-internal v1.16.0
	github.com/spf13/cobra v1.10.2
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb
	golang.org/x/text v0.43.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	golang.org/x/sys v0.30.0 // indirect
)
