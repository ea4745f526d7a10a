module briskwarden.example/briskwarden

go 1.26.0

require (
	github.com/gaissmai/bart v0.30.0 // indirect
	github.com/go-json-experiment/json v1.27.2 // indirect
	github.com/google/go-cmp v0.7.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/jedib0t/go-pretty/v6 v6.8.3 // indirect
	github.com/rogpeppe/go-internal v1.16.0 // indirect
	github.com/spf13/cobra v1.10.2 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb // indirect
	golang.org/x/text v0.43.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	pgregory.net/rapid v1.3.0 // indirect
)
