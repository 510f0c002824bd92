package screen

// parser divides what is written into characters, control characters and sequences, as "A parser for DEC's
// ANSI-compatible video terminals" (Williams) does, with UTF-8 instead of 8-bit controls.
type parser struct {
	state     state
	cut       []byte // of a character
	params    []param
	prefix    byte   // a character before the parameters: one of "<=>?"
	middle    byte   // the last character between the parameters and the end
	operation []byte // of OSC
}

// param is a parameter of a sequence.
type param struct {
	value int32 // -1: the default
	sub   bool  // it belongs to the one before: there is a colon in between
}

type state uint8

const (
	ground       state = iota
	escaped            // after ESC
	designating        // after ESC and one of " #%()*+-./": the last of these is in middle
	control            // in a control sequence (CSI)
	ignoring           // in one that is wrong
	command            // in an operating system command (OSC)
	commandEnds        // after ESC in one
	skipping           // in another string: DCS, SOS, PM, APC
	skippingEnds       // after ESC in one
)

const (
	esc        = 0x1b
	bel        = 0x07
	can        = 0x18
	sub        = 0x1a
	maxParams  = 32
	maxNumber  = 1 << 16 // larger numbers mean the same
	maxCommand = 4 << 10 // bytes of OSC; longer ones have no meaning here
)

// advance takes a byte that is not part of text.
func (s *Screen) advance(c byte) {
	switch s.state {
	case command, commandEnds:
		s.advanceCommand(c)
		return
	case skipping, skippingEnds:
		s.skip(c)
		return
	}
	switch {
	case c == esc:
		s.begin(escaped)
	case c == can || c == sub:
		s.state = ground
	case c < ' ':
		s.last.valid = false
		s.execute(c)
	case c == del:
	case s.state == escaped:
		s.advanceEscape(c)
	case s.state == designating:
		if c >= '0' {
			s.state = ground
			s.designate(c)
		}
	case s.state == control || s.state == ignoring:
		s.advanceControl(c)
	default:
		s.state = ground
	}
}

func (s *Screen) begin(state state) {
	s.state, s.prefix, s.middle, s.params, s.operation = state, 0, 0, s.params[:0], s.operation[:0]
}

func (s *Screen) advanceEscape(c byte) {
	switch {
	case c == '[':
		s.begin(control)
	case c == ']':
		s.begin(command)
	case c == 'P' || c == 'X' || c == '^' || c == '_' || c == 'k': // the last one is a title in some terminals
		s.begin(skipping)
	case c >= ' ' && c < '0':
		s.state, s.middle = designating, c
	default:
		s.state, s.last.valid = ground, false
		s.escape(c)
	}
}

func (s *Screen) advanceControl(c byte) {
	switch {
	case c >= '@':
		if s.state == control {
			s.last.valid = false
			s.sequence(c)
		}
		s.state = ground
	case s.state == ignoring:
	case c >= '0' && c <= '9':
		if len(s.params) == 0 {
			s.params = append(s.params, param{value: -1})
		}
		if p := &s.params[len(s.params)-1]; p.value < maxNumber {
			p.value = max(p.value, 0)*10 + int32(c-'0')
		}
	case c == ';' || c == ':':
		if len(s.params) == 0 {
			s.params = append(s.params, param{value: -1})
		}
		if len(s.params) == maxParams {
			s.state = ignoring
			return
		}
		s.params = append(s.params, param{value: -1, sub: c == ':'})
	case c >= '<' && c <= '?' && len(s.params) == 0:
		s.prefix = c
	case c >= ' ' && c < '0':
		s.middle = c
	default:
		s.state = ignoring
	}
}

// advanceCommand takes a byte of an operating system command, which ends with BEL or ST.
func (s *Screen) advanceCommand(c byte) {
	switch {
	case s.state == commandEnds && c != '\\': // it was not ST, but the beginning of another sequence
		s.begin(escaped)
		s.advance(c)
	case s.state == commandEnds || c == bel:
		s.state = ground
		s.operate()
	case c == esc:
		s.state = commandEnds
	case c == can || c == sub:
		s.state = ground
	case len(s.operation) < maxCommand:
		s.operation = append(s.operation, c)
	}
}

// skip takes a byte of a string that has no meaning here.
func (s *Screen) skip(c byte) {
	switch {
	case s.state == skippingEnds && c != '\\':
		s.begin(escaped)
		s.advance(c)
	case s.state == skippingEnds || c == can || c == sub:
		s.state = ground
	case c == esc:
		s.state = skippingEnds
	}
}

// param is a parameter, or what is assumed if it is missing or 0.
func (s *Screen) param(i, missing int) int {
	if i < len(s.params) && s.params[i].value > 0 {
		return int(s.params[i].value)
	}
	return missing
}
