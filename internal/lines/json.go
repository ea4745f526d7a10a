package lines

// What the JSON library says is wrong, in our words.

import (
	"errors"
	"fmt"
	"io"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// JSON says in plain words what is wrong with JSON, and at which byte of it. Another error
// it gives back as it is, with no byte.
func JSON(err error) (offset int64, plain error) {
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		return syntax.ByteOffset, inField(syntax.Err, syntax.JSONPointer)
	}
	var semantic *json.SemanticError
	if errors.As(err, &semantic) {
		what := semantic.Err
		if semantic.GoType != nil && semantic.JSONKind != 0 || what == nil {
			what = fmt.Errorf("expected %s, found %s", wanted(semantic), kinds[semantic.JSONKind])
		}
		return semantic.ByteOffset, inField(what, semantic.JSONPointer)
	}
	return -1, err
}

func inField(err error, at jsontext.Pointer) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("it ends in the middle of a value")
	}
	if at == "" {
		return err
	}
	return fmt.Errorf("%s: %w", at, err)
}

func wanted(e *json.SemanticError) string {
	switch e.GoType.Kind().String() {
	case "string":
		return "a string"
	case "bool", "ptr":
		return "true or false"
	case "slice":
		return "an array"
	}
	return "an object"
}

var kinds = map[jsontext.Kind]string{'n': "null", 't': "true", 'f': "false", '"': "a string", '0': "a number", '{': "an object", '[': "an array"}

// Kind names a kind of JSON value.
func Kind(k jsontext.Kind) string { return kinds[k] }
