package memory

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/require"
)

// keptTypes are those of the items that are changed again and again.
var keptTypes = []reflect.Type{reflect.TypeFor[marks](), reflect.TypeFor[proofs](), reflect.TypeFor[session](), reflect.TypeFor[past](), reflect.TypeFor[compliance](), reflect.TypeFor[when](),
	reflect.TypeFor[told](), reflect.TypeFor[head](), reflect.TypeFor[endedMark]()}

// TestWhatIsNotKnownIsKept: what a later version adds to any object of an item is still there once this one has written it.
func TestWhatIsNotKnownIsKept(t *testing.T) {
	const rest = `"of_tomorrow":{"x":[1]}`
	for _, kept := range keptTypes {
		objects := 0
		v := reflect.New(kept)
		fill(v.Elem())
		data, err := json.Marshal(v.Interface())
		require.NoError(t, err)
		later := strings.ReplaceAll(string(data), "{", "{"+rest+",")
		later = strings.ReplaceAll(later, ",}", "}")
		objects = strings.Count(later, "of_tomorrow")
		read := reflect.New(kept)
		require.NoError(t, json.Unmarshal([]byte(later), read.Interface()), later)
		data, err = json.Marshal(read.Interface())
		require.NoError(t, err)
		require.Equal(t, objects, strings.Count(string(data), "of_tomorrow"), "%s: %s", kept, data)
	}
}

// fill has something in each field, so that each object is written.
func fill(v reflect.Value) {
	switch v.Kind() {
	case reflect.Struct:
		if v.Type().String() == "time.Time" {
			v.Set(reflect.ValueOf(noon))
			return
		}
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.Type == reflect.TypeFor[jsontext.Value]() {
				if f.Name != "Rest" {
					v.Field(i).Set(reflect.ValueOf(jsontext.Value("1")))
				}
			} else if f.IsExported() || f.Anonymous {
				fill(settable(v.Field(i)))
			}
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0))
	case reflect.Map:
		element := reflect.New(v.Type().Elem()).Elem()
		fill(element)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(reflect.ValueOf("a"), element)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem())
	case reflect.String:
		v.SetString("a")
	case reflect.Int64, reflect.Int:
		v.SetInt(1)
	case reflect.Uint64:
		v.SetUint(1)
	case reflect.Float64:
		v.SetFloat(1)
	case reflect.Bool:
		v.SetBool(true)
	default:
		panic(fmt.Sprint("a kind that is not filled: ", v.Kind()))
	}
}

// settable is a field of an embedded type, whose name is not exported though its fields are.
func settable(v reflect.Value) reflect.Value {
	if v.CanSet() {
		return v
	}
	return reflect.NewAt(v.Type(), v.Addr().UnsafePointer()).Elem()
}
