package mask

// heads tells at once of nearly all text that it has none of some forms, by the four bytes
// that each begins with.
type heads struct {
	may   [1 << 10]uint64 // a bit for each hash that a head has
	forms map[uint32][]string
}

func headsOf(forms []string) heads {
	h := heads{forms: map[uint32][]string{}}
	for _, f := range forms {
		head := headAt(f, 0)
		bit := hashOf(head)
		h.may[bit>>6] |= 1 << (bit & 63)
		h.forms[head] = append(h.forms[head], f)
	}
	return h
}

// headAt returns the four bytes at a place; forms and what is asked about are that long.
func headAt(text string, i int) uint32 {
	return uint32(text[i]) | uint32(text[i+1])<<8 | uint32(text[i+2])<<16 | uint32(text[i+3])<<24
}

// hashOf is the multiplication by the golden ratio of Knuth, volume 3, section 6.4.
func hashOf(head uint32) uint32 { return head * 2654435769 >> 16 }

// among reports whether one of the forms is in a text.
func among[T string | []byte](h *heads, text T) bool {
	if len(text) < shortest {
		return false
	}
	var head uint32
	for i := range shortest - 1 {
		head = head>>8 | uint32(text[i])<<24
	}
	for i := shortest - 1; i < len(text); i++ {
		head = head>>8 | uint32(text[i])<<24
		if bit := hashOf(head); h.may[bit>>6]&(1<<(bit&63)) == 0 {
			continue
		}
		for _, f := range h.forms[head] {
			if at := i - shortest + 1; at+len(f) <= len(text) && string(text[at:at+len(f)]) == f {
				return true
			}
		}
	}
	return false
}
