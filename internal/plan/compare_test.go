package plan

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestCompareMissesNothing changes each field of a unit and requires that the comparison of settings notices, except
// for fields that only repeat others in another form.
func TestCompareMissesNothing(t *testing.T) {
	derived := map[string]string{
		"Name":          "another unit",
		"Line":          "a place",
		"File":          "a place",
		"Member":        "told by Name",
		"EnvFiles":      "told by Env",
		"OwnEnv":        "told by Env",
		"ComparesTimes": "told by Run",
	}
	units := reflect.TypeFor[Unit]()
	for i := range units.NumField() {
		field := units.Field(i)
		if _, is := derived[field.Name]; is {
			continue
		}
		t.Run(field.Name, func(t *testing.T) {
			a, b := Unit{Name: "u", Kind: Task}, Unit{Name: "u", Kind: Task}
			set(reflect.ValueOf(&b).Elem().Field(i))
			d := Compare(&Plan{Units: []*Unit{&a}}, &Plan{Units: []*Unit{&b}})
			assert.False(t, d.Empty())
		})
	}
	assert.False(t, sameSet([]string{"a", "a"}, []string{"a", "b"}))
	assert.True(t, sameSet([]string{"a", "b"}, []string{"b", "a"}))
}

// set sets a value to something other than zero.
func set(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(1)
	case reflect.Uint8:
		v.SetUint(2) // a suite, if the type has kinds
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		set(v.Elem())
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		set(v.Index(0))
	case reflect.Struct:
		set(v.Field(0))
	}
}
