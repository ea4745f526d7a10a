module briskwarden.example/briskwarden

go 1.26.0

require (
	github.com/gaissmai/bart v0.30.0
	github.com/go-json-experiment/json v1.27.2
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb
	golang.org/x/text v0.43.0
)
