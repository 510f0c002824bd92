// Package document parses TOML into tables and values that know their line and column, and collects problems that are
// reported with them. It knows nothing of what the keys mean. Start reading at Parse and Problem.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// A document is a TOML file as a tree in which every key and value has its location. The library's decoder stops at
// the first wrong type and does not know its line; with the tree, the reader continues and reports locations.
type Document struct {
	file   string
	lines  []string
	starts []int // the offset of each line
	Root   *Table
	Found  Problems
	more   int // the number of further problems

	// The last location, because counting the characters of a long line again and again would take very long.
	lastLine, lastOffset, lastColumn int
}

// Place is a location: the line and column, from 1, and the width, both in characters, and the offset in the line in
// bytes.
type Place struct{ Line, Column, Width, offset int }

type Table struct {
	at      Place
	Entries []*Entry // in file order
	byKey   map[string]*Entry
}

func (t *Table) add(e *Entry) {
	if t.byKey == nil {
		t.byKey = map[string]*Entry{}
	}
	if t.byKey[e.Key] == nil {
		t.byKey[e.Key] = e
	}
	t.Entries = append(t.Entries, e)
}

type Entry struct {
	Key   string
	KeyAt Place
	Value *Value
	items map[string]Place // of a list of names: the place of each; computed on demand
}

type ValueKind uint8

const (
	TextKind ValueKind = iota
	NumberKind
	FlagKind
	ListKind
	TablesKind // a table; with several items an array of tables
	otherKind  // dates and floats, which no setting accepts
)

func (k ValueKind) String() string {
	return [...]string{"a string", "a number", "true or false", "a list", "a table", "a date or a fraction"}[k]
}

type Value struct {
	Kind  ValueKind
	Text  string // of texts, numbers and booleans
	Items []*Value
	Table *Table
	At    Place
}

func (t *Table) Get(key string) *Entry { return t.byKey[key] }

// Parse parses data into a tree. A syntax error makes the tree useless, so it is the only problem then.
func Parse(file string, data []byte) *Document {
	d := &Document{
		file:  file,
		lines: strings.Split(string(data), "\n"),
		Root:  &Table{at: Place{Line: 1, Column: 1, Width: 1}},
	}
	offset := 0
	for _, l := range d.lines {
		d.starts = append(d.starts, offset)
		offset += len(l) + 1
	}
	var discard map[string]any
	if err := toml.Unmarshal(data, &discard); err != nil {
		d.syntaxError(err)
		return d
	}
	p := &unstable.Parser{}
	p.Reset(data)
	current := d.Root
	for p.NextExpression() {
		switch e := p.Expression(); e.Kind {
		case unstable.Table, unstable.ArrayTable:
			current = d.open(p, e)
		case unstable.KeyValue:
			d.keyValue(p, current, e)
		}
	}
	return d
}

func (d *Document) syntaxError(err error) {
	at := Place{Line: 1, Column: 1, Width: 1}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, column := decode.Position()
		at = Place{Line: line, Column: column, Width: 1}
	}
	d.Problem(at, strings.TrimPrefix(err.Error(), "toml: "), "")
}

// maxProblems limits the problems that are reported.
const maxProblems = 100

func (d *Document) Problem(at Place, text, hint string) {
	if len(d.Found) >= maxProblems {
		d.more++
		return
	}
	line := ""
	if at.Line >= 1 && at.Line <= len(d.lines) {
		line = strings.TrimSuffix(d.lines[at.Line-1], "\r")
	}
	source, cut := excerpt(line, at)
	d.Found = append(d.Found, Problem{
		File: d.file, Line: at.Line, Column: at.Column, Width: at.Width,
		Source: source, Cut: cut, Text: text, Hint: hint,
	})
}

// excerpt returns a line, or of a very long one the part around a place, and how many characters before that are left
// out.
func excerpt(line string, at Place) (string, int) {
	const long, before, after = 240, 80, 120
	if len(line) <= long {
		return line, 0
	}
	from, to := max(at.offset-before, 0), min(at.offset+after, len(line))
	for from > 0 && !utf8.RuneStart(line[from]) {
		from--
	}
	for to < len(line) && !utf8.RuneStart(line[to]) {
		to++
	}
	return line[from:to], max(at.Column-1-utf8.RuneCountInString(line[from:min(at.offset, len(line))]), 0)
}

// Problems returns the problems in file order.
func (d *Document) Problems() Problems {
	sort.SliceStable(d.Found, func(i, j int) bool {
		a, b := d.Found[i], d.Found[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	if d.more > 0 {
		last := d.Found[len(d.Found)-1]
		d.Found = append(
			d.Found,
			Problem{File: d.file, Line: last.Line, Column: last.Column, Width: 1, Source: last.Source, Cut: last.Cut,
				Text: fmt.Sprintf("%d more problems are not shown", d.more)},
		)
	}
	return d.Found
}

func (d *Document) place(p *unstable.Parser, r unstable.Range) Place {
	raw := p.Raw(r)
	if i := bytes.IndexByte(raw, '\n'); i >= 0 {
		raw = raw[:i]
	}
	line, found := slices.BinarySearch(d.starts, int(r.Offset))
	if !found {
		line--
	}
	offset := int(r.Offset) - d.starts[line]
	return Place{line + 1, d.column(line, offset), max(utf8.RuneCount(raw), 1), offset}
}

// column counts the characters up to an offset in a line, for carets below it.
func (d *Document) column(line, offset int) int {
	offset = min(offset, len(d.lines[line]))
	if line != d.lastLine || offset < d.lastOffset {
		d.lastLine, d.lastOffset, d.lastColumn = line, 0, 1
	}
	d.lastColumn += utf8.RuneCountInString(d.lines[line][d.lastOffset:offset])
	d.lastOffset = offset
	return d.lastColumn
}

// open finds or creates the table of a [header] or [[header]].
func (d *Document) open(p *unstable.Parser, e *unstable.Node) *Table {
	t := d.Root
	it := e.Key()
	for it.Next() {
		n := it.Node()
		last := it.IsLast()
		at := d.place(p, n.Raw)
		found := t.Get(string(n.Data))
		if found == nil {
			found = &Entry{Key: string(n.Data), KeyAt: at, Value: &Value{Kind: TablesKind, At: at}}
			t.add(found)
		}
		v := found.Value
		if v.Table == nil || last && e.Kind == unstable.ArrayTable {
			v.Table = &Table{at: at}
			v.Items = append(v.Items, &Value{Kind: TablesKind, Table: v.Table, At: at})
		}
		t = v.Table
	}
	return t
}

func (d *Document) keyValue(p *unstable.Parser, t *Table, e *unstable.Node) {
	it := e.Key()
	for it.Next() {
		n := it.Node()
		at := d.place(p, n.Raw)
		key := string(n.Data)
		if it.IsLast() {
			t.add(&Entry{Key: key, KeyAt: at, Value: d.value(p, e.Value(), at)})
			return
		}
		// A dotted key: every part except the last is a table.
		found := t.Get(key)
		if found == nil {
			found = &Entry{Key: key, KeyAt: at, Value: &Value{Kind: TablesKind, Table: &Table{at: at}, At: at}}
			found.Value.Items = []*Value{found.Value}
			t.add(found)
		}
		t = found.Value.Table
	}
}

// value converts a value node. Some nodes have no location; they get the key's.
func (d *Document) value(p *unstable.Parser, n *unstable.Node, keyAt Place) *Value {
	v := &Value{Kind: otherKind, Text: string(n.Data), At: keyAt}
	if n.Raw.Length > 0 {
		v.At = d.place(p, n.Raw)
	}
	switch n.Kind {
	case unstable.String:
		v.Kind = TextKind
	case unstable.Integer:
		v.Kind = NumberKind
	case unstable.Bool:
		v.Kind = FlagKind
	case unstable.Array:
		v.Kind = ListKind
		for it := n.Children(); it.Next(); {
			v.Items = append(v.Items, d.value(p, it.Node(), v.At))
		}
	case unstable.InlineTable:
		v.Kind = TablesKind
		v.Table = &Table{at: v.At}
		v.Items = []*Value{v}
		for it := n.Children(); it.Next(); {
			d.keyValue(p, v.Table, it.Node())
		}
	}
	return v
}

// Item returns the place of a text in a list, or that of the key.
func (e *Entry) Item(name string) Place {
	if e.items == nil {
		e.items = map[string]Place{}
		for _, v := range slices.Backward(e.Value.Items) {
			e.items[v.Text] = v.At
		}
	}
	if at, ok := e.items[name]; ok {
		return at
	}
	return e.KeyAt
}
