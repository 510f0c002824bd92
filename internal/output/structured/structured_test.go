package structured

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/output/query"
)

func TestParse(t *testing.T) {
	for _, test := range []struct {
		text string
		want Line
	}{
		{`{"time":"2030-05-04T12:00:00Z","level":"warn","msg":"low tide","berth":3,"on":{"a":[1]},"x":null}`,
			Line{"2030-05-04T12:00:00Z", query.Warning, "low tide",
				[]Field{{"berth", "3"}, {"on", `{"a":[1]}`}, {"x", "null"}}}},
		{`{"level":50,"time":1904126400000,"msg":"refused"}`,
			Line{"1904126400000", query.Error, "refused", nil}},
		{`{"severity":"ERROR","message":"refused"}`, Line{"", query.Error, "refused", nil}},
		{`ts=2030-05-04T12:00:00Z lvl=eror level=error msg="no tide" port=4102 empty=`,
			Line{"2030-05-04T12:00:00Z", query.Error, "no tide",
				[]Field{{"lvl", "eror"}, {"port", "4102"}, {"empty", ""}}}},
	} {
		l, is := Parse(test.text)
		assert.True(t, is, test.text)
		assert.Equal(t, test.want, l, test.text)
	}
	for _, text := range []string{
		"", "listening on 4102", `{"berth":3}`, `{"level":"info"`, `{"level":"info"} and more`, "[1,2]", "a=b",
		"PORT=4102 HOST=x", "level=info and prose",
		"export PATH=/bin level=info", `msg="not closed`,
		`{"Action":"fail","Package":"ferries/berths","Test":"TestTide","Elapsed":0.1}`,
	} {
		_, is := Parse(text)
		assert.False(t, is, text)
	}
}

func TestTestEvent(t *testing.T) {
	for _, test := range []struct {
		line, text string
		prints, is bool
	}{
		{`{"Time":"2030-05-04T12:00:00Z","Action":"output","Package":"a","Test":"TestTide","Output":"    \"low\"\n"}`,
			`    "low"`, true, true},
		{`{"ImportPath":"a","Action":"build-output","Output":"a.go:3:5: low\n"}`, "a.go:3:5: low", true, true},
		{`{"Action":"output","Package":"a","Output":"\n"}`, "", true, true},
		{`{"Action":"run","Package":"a","Test":"TestTide"}`, "", false, true},
		{`{"Action":"moored","Package":"a"}`, "", false, false},
		{`{"Action":"run"}`, "", false, false},
		{`{"Action":"run","Package":"a"`, "", false, false},
		{`ran {"Action":"run","Package":"a"}`, "", false, false},
		{"", "", false, false},
	} {
		text, prints, is := TestEvent([]byte(test.line))
		assert.Equal(t, test.text, text, test.line)
		assert.Equal(t, []bool{test.prints, test.is}, []bool{prints, is}, test.line)
	}
}

func TestTime(t *testing.T) {
	want := time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)
	for _, text := range []string{"2030-05-04T12:00:00Z", "2030-05-04T14:00:00.000+0200", "1904126400", "1904126400000",
		"1904126400.0", "1904126400000000000"} {
		at, is := Line{At: text}.Time()
		assert.True(t, is, text)
		assert.True(t, want.Equal(at), "%s %v", text, at)
	}
	_, is := Line{At: "today"}.Time()
	assert.False(t, is)
}

func TestLevelOf(t *testing.T) {
	for text, want := range map[string]query.Level{
		"ERROR no tide": query.Error, "2030-05-04 12:00:00,123 WARNING low": query.Warning, "[info] up": query.Info,
		"berths: DEBUG x":    query.Debug,
		"TypeError: no tide": query.Error, "java.lang.IllegalStateException: x": query.Error,
		"panic: no tide": query.Error, "an Error: no": query.NoLevel,
		"error: no tide": query.Error, "level=warn msg=x": query.Warning, "there was no error here": query.NoLevel,
		"": query.NoLevel, "information": query.NoLevel,
	} {
		assert.Equal(t, want, LevelOf(text), text)
	}
}

// FuzzParse parses arbitrary lines.
func FuzzParse(f *testing.F) {
	f.Add(`{"level":"info","msg":"x","a":{"b":[1,null]}}`)
	f.Add(`level=info msg="a b" c=`)
	f.Fuzz(func(_ *testing.T, text string) {
		l, _ := Parse(text)
		l.Time()
		LevelOf(text)
	})
}
