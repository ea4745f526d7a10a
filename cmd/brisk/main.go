// Command brisk writes, checks and tries conditional sign-on policies.
package main

import (
	"os"

	"briskwarden.example/briskwarden/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
}
