package language_test

import (
	"fmt"
	"log"

	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/ast"
)

func ExampleFormat() {
	text, err := language.Format("news.warden", []byte(`policy reading{who people to app news
  # for now
otherwise=>step-up password}`))
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(string(text))
	// Output:
	// policy reading {
	//   who   people
	//   to    app news
	//   # for now
	//   otherwise => step-up password
	// }
}

func ExampleParse() {
	file, err := language.Parse("news.warden", []byte(`app news { } policy reading { who people to app news otherwise => grant }`))
	if err != nil {
		log.Fatal(err)
	}
	for _, d := range file.Decls {
		if p, is := d.(*ast.Policy); is {
			fmt.Println(p.Name.Text, p.Name.Pos)
		}
	}
	_, err = language.Parse("news.warden", []byte(`polcy reading { }`))
	fmt.Println(err)
	// Output:
	// reading news.warden:1:21
	// news.warden:1:1: expected a declaration, found "polcy"
}
