package lens

import (
	"bytes"
	"strings"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/structured"
)

// level is the level of a line of output: what it states, or that it reports a failure.
func level(tone logbook.Tone, text []byte) query.Level {
	switch tone {
	case logbook.Broken:
		return query.Error
	case logbook.Stale:
		return query.Warning
	}
	if !mayStateLevel(text) {
		return query.NoLevel
	}
	if l, known := jsonLevel(text); known {
		return l
	}
	return structured.LevelOf(string(text))
}

// hints has a bit for each three letters that lines have which state a warning or an error, in any case: the beginnings
// of the words of levels, of the names of their fields, and of "Exception".
var hints = func() (set [1 << 10]uint32) {
	for word := range strings.FieldsSeq("err war wrn fat pan cri ale eme sev ftl lev lvl xce") {
		i := uint32(word[0]&31)<<10 | uint32(word[1]&31)<<5 | uint32(word[2]&31)
		set[i>>5] |= 1 << (i & 31)
	}
	return set
}()

// mayStateLevel is much faster than finding the level, and never false where there is a warning or an error.
func mayStateLevel(text []byte) bool {
	three := uint32(0)
	for _, c := range text {
		three = (three<<5 | uint32(c&31)) & (1<<15 - 1)
		if hints[three>>5]&(1<<(three&31)) != 0 {
			return true
		}
	}
	return false
}

// jsonLevel returns the level of a JSON object whose field "level" is a string that comes before any other object;
// false: it is not such a line.
func jsonLevel(text []byte) (query.Level, bool) {
	if len(text) == 0 || text[0] != '{' {
		return query.NoLevel, false
	}
	before, value, found := bytes.Cut(text[1:], []byte(`"level":"`))
	if !found || bytes.IndexByte(before, '{') >= 0 {
		return query.NoLevel, false
	}
	word, _, closed := bytes.Cut(value, []byte{'"'})
	l := query.LevelOf(string(word))
	return l, closed && l != query.NoLevel
}
