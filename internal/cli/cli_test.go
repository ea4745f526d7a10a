package cli_test

import (
	"os"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"briskwarden.example/briskwarden/internal/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"brisk": func() {
			os.Exit(cli.Main(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
		},
		"consenter": consenter,
		"longline": func() { // longline FILE SIZE-IN-MB: a file of one line
			f, err := os.Create(os.Args[1])
			if err != nil {
				panic(err)
			}
			for range map[string]int{"1": 1, "17": 17, "100": 100}[os.Args[2]] {
				_, err = f.WriteString(strings.Repeat("(", 1<<20))
				if err != nil {
					panic(err)
				}
			}
			if err := f.Close(); err != nil {
				panic(err)
			}
		},
	})
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{Dir: "testdata/script", UpdateScripts: os.Getenv("UPDATE") != ""})
}
