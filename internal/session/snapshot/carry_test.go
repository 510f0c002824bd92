package snapshot

import (
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/escape"
)

// full returns a value of a type in which nothing is zero.
func full(t reflect.Type, depth int) reflect.Value {
	v := reflect.New(t).Elem()
	switch {
	case t == reflect.TypeFor[time.Time]():
		return reflect.ValueOf(time.Date(2030, 5, 4, 12, 4, 31, 0, time.UTC))
	case depth == 0:
		return v
	}
	switch t.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(7)
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uint:
		v.SetUint(1)
	case reflect.Float64:
		v.SetFloat(7)
	case reflect.Pointer:
		p := reflect.New(t.Elem())
		p.Elem().Set(full(t.Elem(), depth-1))
		v.Set(p)
	case reflect.Slice:
		v = reflect.Append(v, full(t.Elem(), depth-1))
	case reflect.Map:
		v = reflect.MakeMap(t)
		v.SetMapIndex(full(t.Key(), depth-1), full(t.Elem(), depth-1))
	case reflect.Struct:
		for i := range t.NumField() {
			if t.Field(i).IsExported() {
				v.Field(i).Set(full(t.Field(i).Type, depth-1))
			}
		}
	}
	return v
}

func some[T any]() T { return full(reflect.TypeFor[T](), 10).Interface().(T) }

// missing returns the fields of a converted value that are still zero.
func missing(v reflect.Value, path string, leftOut map[string]bool) (names []string) {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return []string{path}
		}
		return missing(v.Elem(), path, leftOut)
	case reflect.Slice:
		if v.Len() == 0 {
			return []string{path}
		}
		return missing(v.Index(0), path, leftOut)
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			break
		}
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && !leftOut[path+"."+field.Name] {
				names = append(names, missing(v.Field(i), path+"."+field.Name, leftOut)...)
			}
		}
		return names
	}
	if v.IsZero() {
		return []string{path}
	}
	return nil
}

// TestConversionsCarryAll converts a value in which nothing is zero with each conversion between the core and the
// contract, and requires that every field of the result is set.
func TestConversionsCarryAll(t *testing.T) {
	c := Converter(escape.Lines)
	fact := some[engine.Fact]()
	fact.Kind, fact.State = engine.FactRunEnded, engine.Failed
	p := &plan.Plan{
		Units: []*plan.Unit{
			{
				Name:         "x",
				Run:          plan.Command{Shell: "x"},
				Dir:          "x",
				Unstructured: true,
				Needs:        []string{"x"},
				Follows:      []string{"x"},
			},
		},
	}
	for name, test := range map[string]struct {
		out     any
		leftOut []string
	}{
		"unit":   {*c.Unit(ptr(some[engine.Unit]()), p), []string{"unit.Marks"}}, // set by the builder
		"report": {c.report(some[engine.Report]()), nil},
		"run":    {c.Run(some[engine.Run]()), nil},
		"ripple": {*c.Ripple(ptr(some[engine.Ripple]())), nil},
		// set by the account; addresses have facts of their own
		"fact":   {c.Fact(fact), []string{"fact.ID", "fact.Address"}},
		"loop":   {*c.loop(ptr(some[engine.Loop]())), nil},
		"jobs":   {c.jobs(some[engine.Jobs]()), nil},
		"doubts": {c.Doubts([]engine.Doubt{some[engine.Doubt]()}), nil},
	} {
		t.Run(name, func(t *testing.T) {
			leftOut := map[string]bool{}
			for _, field := range test.leftOut {
				leftOut[field] = true
			}
			assert.Empty(t, missing(reflect.ValueOf(test.out), name, leftOut))
		})
	}
}

func ptr[T any](v T) *T { return &v }
