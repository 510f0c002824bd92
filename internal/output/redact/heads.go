package redact

// heads tells at once of nearly all text that it has none of some forms. It looks at four
// bytes at a time, and only as often as needed so that no form can lie in between, as the
// algorithm of Wu and Manber does ("A fast algorithm for multi-pattern searching", 1994).
type heads struct {
	may    [1 << 10]uint64 // a bit for each hash that four bytes of a form have
	at     map[uint32][]grain
	stride int
}

// grain is where four bytes are in a form.
type grain struct {
	form   string
	offset int
}

// headsOf returns what shows these forms, the longest of which comes first; each is at least
// as long as shortest.
func headsOf(forms []string) heads {
	h := heads{at: map[uint32][]grain{}, stride: len(forms[len(forms)-1]) - shortest + 1}
	for _, f := range forms {
		for offset := range h.stride {
			four := fourAt(f, offset)
			bit := hashOf(four)
			h.may[bit>>6] |= 1 << (bit & 63)
			h.at[four] = append(h.at[four], grain{f, offset})
		}
	}
	return h
}

// fourAt returns the four bytes at a place; what is asked about is that long.
func fourAt[T string | []byte](text T, i int) uint32 {
	return uint32(text[i]) | uint32(text[i+1])<<8 | uint32(text[i+2])<<16 | uint32(text[i+3])<<24
}

// hashOf is the multiplication by the golden ratio of Knuth, volume 3, section 6.4.
func hashOf(four uint32) uint32 { return four * 2654435769 >> 16 }

// among reports whether one of the forms is in a text.
func among[T string | []byte](h *heads, text T) bool {
	for i := h.stride - 1; i+shortest <= len(text); i += h.stride {
		four := fourAt(text, i)
		if bit := hashOf(four); h.may[bit>>6]&(1<<(bit&63)) == 0 {
			continue
		}
		for _, g := range h.at[four] {
			if from := i - g.offset; from >= 0 && from+len(g.form) <= len(text) &&
				string(text[from:from+len(g.form)]) == g.form {
				return true
			}
		}
	}
	return false
}
