package findings

import (
	"bytes"
	"slices"
)

// matters reports whether a line may be, or begin, a finding. It is fast, and returns true in doubt: nearly all lines
// of processes are none, and are not read further.
func matters(line []byte) bool {
	if beginningMatters(line) || ruled(line) || nameMatters(line) || wordsMatter(line) {
		return true
	}
	for at := 0; ; at++ {
		i := bytes.IndexByte(line[at:], ':')
		if i < 0 {
			return false
		}
		if at += i; colonMatters(line, at) {
			return true
		}
	}
}

var (
	lineEnd  = []byte("\n")
	lineWord = []byte(" line ")
)

// wordsMatter reports whether a line names a location in words, the form of Perl, PHP, shells and others: a file,
// then "line" and a number that ends there.
func wordsMatter(line []byte) bool {
	for at := 0; ; {
		i := bytes.Index(line[at:], lineWord)
		if i < 0 {
			return false
		}
		before := bytes.TrimSuffix(line[:at+i], []byte(" on"))
		at += i + len(lineWord)
		digits := digitsOf(line[at:])
		if digits == 0 || at+digits < len(line) && !bytes.ContainsRune([]byte(".,:"), rune(line[at+digits])) {
			continue
		}
		if fileEnds(bytes.TrimSuffix(before, []byte(":"))) {
			return true
		}
	}
}

// fileEnds reports whether a text ends with what may be a file's name.
func fileEnds(text []byte) bool {
	i := len(text)
	for i > 0 && isNameByte(text[i-1]) {
		i--
	}
	if ext := text[i:]; i > 1 && text[i-1] == '.' && len(ext) > 0 && isLetter(ext[0]) {
		return !isSpace(text[i-2])
	}
	return bytes.EqualFold(text[i:], []byte("makefile")) || bytes.EqualFold(text[i:], []byte("dockerfile"))
}

// colonMatters reports whether a colon may be that of a location, after its file, or the one before a message.
func colonMatters(line []byte, at int) bool {
	if at == 0 {
		return false
	}
	before, after := line[at-1], byte('\n')
	if at+1 < len(line) {
		after = line[at+1]
	}
	switch {
	case after == '[':
		return fileEnds(line[:at])
	case isDigit(after):
		return placeMatters(line, at)
	case after == ' ' && bytes.HasSuffix(line[:at], []byte("sh")) && digitsOf(line[at+2:]) > 0:
		return fileEnds(line[:at])
	case after != ' ' && after != '\n':
		return false
	case before == ')':
		return bracketMatters(line[:at-1])
	}
	return nameMatters(line[:at])
}

// placeMatters reports whether a colon before a number is that of a location: a file's name is before it, at the
// beginning of the line or after a prefix, and after the numbers the name of a message or nothing.
func placeMatters(line []byte, at int) bool {
	end := at
	for end < len(line) && (line[end] == ':' || line[end] == '.') && digitsOf(line[end+1:]) > 0 {
		end += 1 + digitsOf(line[end+1:])
	}
	if !isNameByte(line[at-1]) || !fileEnds(line[:at]) { // a server's settings may be in a file without a suffix
		return end == len(line) && bytes.Contains(line[:at], []byte("] "))
	}
	switch rest := line[end:]; {
	case len(rest) == 0, rest[0] == ':', rest[0] == '-', bytes.HasPrefix(rest, []byte(" - ")), ruled(line):
	default:
		return false
	}
	begin := bytes.LastIndexAny(line[:at], " \t\"'(") + 1
	return !bytes.Contains(line[begin:at], []byte("://")) || bytes.HasPrefix(line[begin:], []byte("file://"))
}

// ruled reports whether a line ends with a drawn rule, the heading of a message.
func ruled(line []byte) bool { return bytes.HasSuffix(line, []byte("━")) }

// bracketMatters reports whether a text ends with numbers, or a linker's section, in brackets that are still open.
func bracketMatters(text []byte) bool {
	const longest = 60
	open := bytes.LastIndexByte(text[max(0, len(text)-longest):], '(')
	if open < 0 {
		return false
	}
	inside := text[max(0, len(text)-longest)+open+1:]
	return len(inside) > 0 && (isDigit(inside[0]) || inside[0] == '.')
}

// nameMatters reports whether a text ends with the name of an error, alone or after one of the words that runtimes
// write before it.
func nameMatters(text []byte) bool {
	if code := bytes.LastIndex(text, []byte(" [")); code > 0 && text[len(text)-1] == ']' { // Node's code of the error
		text = text[:code]
	}
	if !bytes.HasSuffix(text, []byte("Error")) && !bytes.HasSuffix(text, []byte("Exception")) {
		return false
	}
	space := bytes.LastIndexByte(text, ' ')
	return space < 0 || slices.ContainsFunc(beforeNames, func(word []byte) bool {
		return bytes.HasSuffix(text[:space], word)
	})
}

// beforeNames are the ends of what stands before an error's name.
var beforeNames = [][]byte{
	[]byte("Uncaught"), []byte(`"`), []byte("Caused by:"), []byte("]"), []byte(")"), []byte("[!]"), []byte("error:"),
}

// beginnings are beginnings of lines that matter whatever follows.
var beginnings = [][]byte{
	[]byte("error:"), []byte("error["), []byte("error TS"), []byte("warning:"), []byte("warning["),
	[]byte("ERROR in "), []byte("WARNING in "), []byte("Error:"), []byte("panic: "), []byte("fatal error: "),
	[]byte("SyntaxError"), []byte("Traceback"), []byte("thread '"), []byte("[!]"), []byte("(!)"), []byte("✘ ["),
	[]byte("▲ ["), []byte("make:"), []byte("make["), []byte("CMake "), []byte("FILE: "), []byte("DEPRECATION WARNING"),
	[]byte("Deprecation Warning"), []byte("Warning: "),
	[]byte("WARNING: "), []byte("Direct leak"), []byte("Indirect leak"),
}

// bracketBeginnings are those with a bracket first.
var bracketBeginnings = [][]byte{
	[]byte("[warn] "), []byte("[error] "), []byte(`[{"filePath":`), []byte(`[{"kind": "`),
}

// indentedBeginnings are those with spaces before them.
var indentedBeginnings = [][]byte{
	[]byte("--> "), []byte(`File "`), []byte("at "), []byte("╭─["), []byte("× "), []byte("⚠ "), []byte("✖ "),
	[]byte(`"posn": "`),
}

// beginningMatters reports whether a line matters by its beginning.
func beginningMatters(line []byte) bool {
	if len(line) < 3 {
		return false
	}
	switch line[0] {
	case ' ', '\t':
		return indentedPlace(line)
	case '[':
		return line[1] == '!' || codeInBrackets(line) || hasOneOf(line, bracketBeginnings)
	case '^':
		return indentedPlace(line)
	case '=':
		return line[1] == '=' && isDigit(line[2])
	}
	return hasOneOf(line, beginningsBy[line[0]])
}

// beginningsBy are the beginnings by their first byte.
var beginningsBy = func() (by [256][][]byte) {
	for _, b := range beginnings {
		by[b[0]] = append(by[b[0]], b)
	}
	return by
}()

func hasOneOf(line []byte, beginnings [][]byte) bool {
	return slices.ContainsFunc(beginnings, func(b []byte) bool { return bytes.HasPrefix(line, b) })
}

// codeInBrackets reports whether a line begins with uppercase words joined by "_" in brackets, the form of bundlers
// for a kind of problem.
func codeInBrackets(line []byte) bool {
	joined := false
	for _, c := range line[1:] {
		switch {
		case c == '_':
			joined = true
		case c == ']':
			return joined
		case c < 'A' || c > 'Z':
			return false
		}
	}
	return false
}

// indentedPlace reports whether a line begins with spaces and a line and column, as rows below a file's name do, or
// with one of the symbols before a location.
func indentedPlace(line []byte) bool {
	line = bytes.TrimLeft(line, " \t")
	digits := digitsOf(line)
	if digits == 0 && len(line) > 0 && line[0] == '^' {
		return bytes.Contains(line, []byte(" SC"))
	}
	if digits == 0 {
		return hasOneOf(line, indentedBeginnings) || bytes.HasSuffix(line, []byte(`": [`))
	}
	if bytes.HasPrefix(line[digits:], []byte(" | ")) {
		return true
	}
	return digits+1 < len(line) && line[digits] == ':' && isDigit(line[digits+1])
}

// digitsOf returns the number of digits at the beginning of a text.
func digitsOf(text []byte) (n int) {
	for n < len(text) && isDigit(text[n]) {
		n++
	}
	return n
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

func isSpace(c byte) bool { return c == ' ' || c == '\t' }

// isNameByte reports whether a byte may be part of a file name's last part, without a dot.
func isNameByte(c byte) bool { return isLetter(c) || isDigit(c) || c == '_' || c == '-' || c == '+' }

// byteSet is the set of the bytes of a text. That a line lacks a byte of a hint is found faster than the hint.
type byteSet [4]uint64

func bytesOf(text string) (s byteSet) {
	for i := range len(text) {
		s[text[i]>>6] |= 1 << (text[i] & 63)
	}
	return s
}

func (s byteSet) has(other byteSet) bool {
	return s[0]&other[0] == other[0] && s[1]&other[1] == other[1] && s[2]&other[2] == other[2] && s[3]&other[3] == other[3]
}
