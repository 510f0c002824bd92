package readers

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/location"
)

// JUnit XML has no standard. What is read here is the form of Ant's junitreport task and of the common runners since:
// <testcase> with classname, name and time, in <testsuite> at any depth or directly below <testsuites>, with
// <failure>, <error> or <skipped> if it has not passed.

const (
	deepestJUnit = 100      // nested elements; runners nest a few suites
	longestJUnit = 64 << 10 // bytes of a text
)

// junitCase is a <testcase>.
type junitCase struct {
	results.Case
	message, text, out, err string
}

// junitSuite is a <testsuite>, or <testsuites>.
type junitSuite struct {
	name   string
	failed bool            // a case in it, or in a suite in it, has failed
	names  map[string]bool // of the suites that its own cases belong to
}

// junitReader reads one file as a stream; it keeps only the current case.
type junitReader struct {
	xml    *xml.Decoder
	files  *source.Files
	sink   results.Sink
	hide   func(string) string
	path   []string // the open elements
	suites []junitSuite
	test   *junitCase // the open one, or nil
	text   *string    // the destination of text, or nil
}

// encodings are those in which runners write reports, by their names in XML declarations (IANA character sets).
var encodings = map[string]encoding.Encoding{
	"us-ascii":     charmap.Windows1252,
	"iso-8859-1":   charmap.Windows1252, // as in the WHATWG Encoding standard
	"latin1":       charmap.Windows1252,
	"iso-8859-15":  charmap.ISO8859_15,
	"windows-1252": charmap.Windows1252,
	"utf-16":       unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
	"utf-16le":     unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
	"utf-16be":     unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM),
}

// decoded returns the contents of a report as UTF-8.
func decoded(name string, in io.Reader) (io.Reader, error) {
	e := encodings[strings.ToLower(name)]
	if e == nil {
		return nil, fmt.Errorf("its encoding %q is not known; have the runner write UTF-8", name)
	}
	return e.NewDecoder().Reader(in), nil
}

// readJUnit reports the cases of a file to sink. The error tells what is wrong with it; cases before that are
// reported.
func readJUnit(in io.Reader, f *source.Files, hide func(string) string, sink results.Sink) error {
	r := &junitReader{xml: xml.NewDecoder(in), files: f, sink: sink, hide: hide}
	r.xml.CharsetReader = decoded
	seen := false
	for {
		token, err := r.xml.RawToken()
		switch {
		case errors.Is(err, io.EOF) && len(r.path) > 0:
			return errors.New("the file ends within <" + r.path[len(r.path)-1] + ">")
		case errors.Is(err, io.EOF) && !seen:
			return errors.New("there is no <testsuite> or <testsuites> in it")
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(r.path) >= deepestJUnit {
				return fmt.Errorf("line %d: elements are nested deeper than %d", r.line(), deepestJUnit)
			}
			r.path = append(r.path, t.Name.Local)
			r.begin(t)
			seen = seen || len(r.suites) > 0
		case xml.EndElement:
			if n := len(r.path); n == 0 || r.path[n-1] != t.Name.Local {
				return fmt.Errorf("line %d: </%s> ends nothing", r.line(), t.Name.Local)
			}
			r.path = r.path[:len(r.path)-1]
			r.end(t.Name.Local)
		case xml.CharData:
			if r.text != nil {
				if room := longestJUnit - len(*r.text); room > 0 {
					*r.text += string(t[:min(len(t), room)])
				}
			}
		}
	}
}

func (r *junitReader) line() int {
	line, _ := r.xml.InputPos()
	return line
}

func (r *junitReader) begin(t xml.StartElement) {
	value := func(name string) string {
		for _, a := range t.Attr {
			if a.Name.Local == name {
				return r.hide(a.Value[:min(len(a.Value), longestJUnit)])
			}
		}
		return ""
	}
	switch name := t.Name.Local; {
	case name == "testsuite" || name == "testsuites":
		r.suites = append(r.suites, junitSuite{name: value("name"), names: map[string]bool{}})
	case name == "testcase" && len(r.suites) > 0:
		seconds, _ := strconv.ParseFloat(strings.ReplaceAll(value("time"), ",", ""), 64)
		r.test = &junitCase{
			Case: results.Case{
				Suite:  value("classname"),
				Name:   value("name"),
				Status: results.Passed,
				Took:   time.Duration(seconds * float64(time.Second)),
			},
		}
		if r.test.Suite == "" {
			r.test.Suite = r.suites[len(r.suites)-1].name
		}
		r.test.Location = location.Location{File: r.files.Find(value("file")), Line: source.Number(value("line"))}
	case r.test == nil:
	case name == "failure" || name == "error":
		r.test.Status, r.test.message, r.text = results.Failed, value("message"), &r.test.text
	case name == "skipped" && r.test.Status == results.Passed:
		r.test.Status, r.test.message = results.Skipped, value("message")
	case name == "system-out":
		r.text = &r.test.out
	case name == "system-err":
		r.text = &r.test.err
	case name == "property" && r.test.Location.Line == 0:
		switch value("name") {
		case "file":
			r.test.Location.File = r.files.Find(value("value"))
		case "line":
			r.test.Location.Line = source.Number(value("value"))
		}
	}
}

func (r *junitReader) end(name string) {
	switch n := len(r.suites); {
	case name == "testsuite" || name == "testsuites":
		s := r.suites[n-1]
		r.suites = r.suites[:n-1]
		for _, suite := range sorted(s.names) {
			r.sink.SuiteEnded(results.SuiteEnd{Suite: suite, OK: !s.failed})
		}
		if n > 1 && s.failed {
			r.suites[n-2].failed = true
		}
	case name == "testcase" && r.test != nil:
		s := &r.suites[n-1]
		s.names[r.test.Suite] = true
		s.failed = s.failed || r.test.Status == results.Failed
		r.sink.Ended(r.test.told(r))
		r.test, r.text = nil, nil
	case r.text != nil && (name == "failure" || name == "error" || name == "system-out" || name == "system-err"):
		r.text = nil
	}
}

// told converts the case for the sink.
func (c *junitCase) told(r *junitReader) results.Case {
	out := c.Case
	switch out.Status {
	case results.Skipped:
		out.Message = c.message
	case results.Failed:
		place := out.Location
		out.Location = location.Location{}
		out.Output = outputOf(r.hide(c.text), r.hide(c.out), r.hide(c.err))
		if strings.TrimSpace(c.text) == "" {
			out.Output = outputOf(c.message, r.hide(c.out), r.hide(c.err))
		}
		reason.Explain(&out, r.files)
		if c.message != "" {
			out.Message = c.message
			reason.Compare(&out)
		}
		if out.Location.Line == 0 {
			out.Location = place
		}
	default:
		out.Location = location.Location{}
	}
	return out
}
