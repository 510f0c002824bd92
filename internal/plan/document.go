package plan

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

// A document is a TOML file as a tree in which every key and value knows its
// place. The library's decoder stops at the first wrong type and knows nothing
// of the line it stands in; the tree lets the reader go on and point.
type document struct {
	file   string
	lines  []string
	starts []int // offset of each line
	root   *table
	found  Problems
	more   int // problems beyond those

	// Where the last place was, since counting the characters of a long line again and
	// again would take for ever.
	lastLine, lastOffset, lastColumn int
}

// place is where something stands: its line and column from 1 and its width, both in
// characters, and its offset in the line in bytes.
type place struct{ line, column, width, offset int }

type table struct {
	at      place
	entries []*entry // in the order of the file
	byKey   map[string]*entry
}

func (t *table) add(e *entry) {
	if t.byKey == nil {
		t.byKey = map[string]*entry{}
	}
	if t.byKey[e.key] == nil {
		t.byKey[e.key] = e
	}
	t.entries = append(t.entries, e)
}

type entry struct {
	key   string
	keyAt place
	value *value
	items map[string]place // of a list of names, where each stands; made when it is asked for
}

type valueKind uint8

const (
	textKind valueKind = iota
	numberKind
	flagKind
	listKind
	tablesKind // a table, or with several items an array of tables
	otherKind  // dates and floats, which no setting takes
)

func (k valueKind) String() string {
	return [...]string{"a string", "a number", "true or false", "a list", "a table", "a date or a fraction"}[k]
}

type value struct {
	kind  valueKind
	text  string // of texts, numbers, flags
	items []*value
	table *table
	at    place
}

func (t *table) get(key string) *entry { return t.byKey[key] }

// parse reads data into a tree. A syntax error makes the tree useless, so it is
// the only problem then.
func parse(file string, data []byte) *document {
	d := &document{
		file:  file,
		lines: strings.Split(string(data), "\n"),
		root:  &table{at: place{line: 1, column: 1, width: 1}},
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
	current := d.root
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

func (d *document) syntaxError(err error) {
	at := place{line: 1, column: 1, width: 1}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, column := decode.Position()
		at = place{line: line, column: column, width: 1}
	}
	d.problem(at, strings.TrimPrefix(err.Error(), "toml: "), "")
}

// maxProblems is how many problems are told; a user reads no more.
const maxProblems = 100

func (d *document) problem(at place, text, hint string) {
	if len(d.found) >= maxProblems {
		d.more++
		return
	}
	line := ""
	if at.line >= 1 && at.line <= len(d.lines) {
		line = strings.TrimSuffix(d.lines[at.line-1], "\r")
	}
	source, cut := excerpt(line, at)
	d.found = append(d.found, Problem{
		File: d.file, Line: at.line, Column: at.column, Width: at.width,
		Source: source, Cut: cut, Text: text, Hint: hint,
	})
}

// excerpt returns a line, or of a very long one the part around a place, and how many
// characters before that are left out.
func excerpt(line string, at place) (string, int) {
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
	return line[from:to], max(at.column-1-utf8.RuneCountInString(line[from:min(at.offset, len(line))]), 0)
}

// problems returns what was found in the order of the file.
func (d *document) problems() Problems {
	sort.SliceStable(d.found, func(i, j int) bool {
		a, b := d.found[i], d.found[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	if d.more > 0 {
		last := d.found[len(d.found)-1]
		d.found = append(
			d.found,
			Problem{File: d.file, Line: last.Line, Column: last.Column, Width: 1, Source: last.Source, Cut: last.Cut,
				Text: fmt.Sprintf("%d more problems are not shown", d.more)},
		)
	}
	return d.found
}

func (d *document) place(p *unstable.Parser, r unstable.Range) place {
	raw := p.Raw(r)
	if i := bytes.IndexByte(raw, '\n'); i >= 0 {
		raw = raw[:i]
	}
	line, found := slices.BinarySearch(d.starts, int(r.Offset))
	if !found {
		line--
	}
	offset := int(r.Offset) - d.starts[line]
	return place{line + 1, d.column(line, offset), max(utf8.RuneCount(raw), 1), offset}
}

// column counts characters, under which carets stand, up to an offset in a line.
func (d *document) column(line, offset int) int {
	offset = min(offset, len(d.lines[line]))
	if line != d.lastLine || offset < d.lastOffset {
		d.lastLine, d.lastOffset, d.lastColumn = line, 0, 1
	}
	d.lastColumn += utf8.RuneCountInString(d.lines[line][d.lastOffset:offset])
	d.lastOffset = offset
	return d.lastColumn
}

// open finds or makes the table that a [header] or [[header]] names.
func (d *document) open(p *unstable.Parser, e *unstable.Node) *table {
	t := d.root
	it := e.Key()
	for it.Next() {
		n := it.Node()
		last := it.IsLast()
		at := d.place(p, n.Raw)
		found := t.get(string(n.Data))
		if found == nil {
			found = &entry{key: string(n.Data), keyAt: at, value: &value{kind: tablesKind, at: at}}
			t.add(found)
		}
		v := found.value
		if v.table == nil || last && e.Kind == unstable.ArrayTable {
			v.table = &table{at: at}
			v.items = append(v.items, &value{kind: tablesKind, table: v.table, at: at})
		}
		t = v.table
	}
	return t
}

func (d *document) keyValue(p *unstable.Parser, t *table, e *unstable.Node) {
	it := e.Key()
	for it.Next() {
		n := it.Node()
		at := d.place(p, n.Raw)
		key := string(n.Data)
		if it.IsLast() {
			t.add(&entry{key: key, keyAt: at, value: d.value(p, e.Value(), at)})
			return
		}
		// A dotted key: every part but the last is a table of its own.
		found := t.get(key)
		if found == nil {
			found = &entry{key: key, keyAt: at, value: &value{kind: tablesKind, table: &table{at: at}, at: at}}
			found.value.items = []*value{found.value}
			t.add(found)
		}
		t = found.value.table
	}
}

// value reads a value node. Some nodes carry no place of their own; those get
// the key's.
func (d *document) value(p *unstable.Parser, n *unstable.Node, keyAt place) *value {
	v := &value{kind: otherKind, text: string(n.Data), at: keyAt}
	if n.Raw.Length > 0 {
		v.at = d.place(p, n.Raw)
	}
	switch n.Kind {
	case unstable.String:
		v.kind = textKind
	case unstable.Integer:
		v.kind = numberKind
	case unstable.Bool:
		v.kind = flagKind
	case unstable.Array:
		v.kind = listKind
		for it := n.Children(); it.Next(); {
			v.items = append(v.items, d.value(p, it.Node(), v.at))
		}
	case unstable.InlineTable:
		v.kind = tablesKind
		v.table = &table{at: v.at}
		v.items = []*value{v}
		for it := n.Children(); it.Next(); {
			d.keyValue(p, v.table, it.Node())
		}
	}
	return v
}
