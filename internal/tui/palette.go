package tui

import (
	"hash/fnv"

	"charm.land/lipgloss/v2"
	"github.com/lucasb-eyer/go-colorful"

	"omnivigil/internal/api"
	"omnivigil/internal/timeline"
)

// palette is every colour and weight of the screen, for one ground. Four
// meanings have a colour each; each is also a word and a texture, so that the
// screen can be read in grey. Text keeps the terminal's own colours.
type palette struct {
	text, bright, dim, faint lipgloss.Style
	current, moving          lipgloss.Style
	broken, stale            lipgloss.Style
	chosen                   lipgloss.Style // the row and the moment one points at
	banner                   map[api.VerdictWord]lipgloss.Style
	units                    []lipgloss.Style
}

// unitColours stay apart from those of the four meanings: no green, blue, red or
// amber among them. Each pair is for a dark and a light ground.
var unitColours = [][2]string{
	{"#c3a6ff", "#6b46c1"}, {"#8fd3d8", "#0f6b73"}, {"#f0a6ca", "#a13670"}, {"#b8c4d6", "#4a5a70"},
	{"#d8c7a3", "#75602f"}, {"#a7b6ff", "#4553b8"}, {"#cfa8a0", "#87483b"}, {"#9fc9b9", "#3b6b59"},
	{"#dcb3ee", "#85429c"}, {"#aab8b0", "#55655c"},
}

// ground is what the screen is drawn on.
type ground int

const (
	anyGround ground = iota // not known: colours between those of the others read on both
	darkGround
	lightGround
)

// between is the colour halfway between two, as they are seen.
func between(onDark, onLight string) string {
	a, _ := colorful.Hex(onDark)
	b, _ := colorful.Hex(onLight)
	return a.BlendLab(b, 0.5).Clamped().Hex()
}

func newPalette(of ground) *palette {
	pick := func(onDark, onLight string) lipgloss.Style {
		colour := map[ground]string{darkGround: onDark, lightGround: onLight, anyGround: between(onDark, onLight)}[of]
		return lipgloss.NewStyle().Foreground(lipgloss.Color(colour))
	}
	banner := func(colour lipgloss.Style) lipgloss.Style {
		ink := "#0b1220"
		if of == lightGround {
			ink = "#ffffff"
		}
		return lipgloss.NewStyle().Bold(true).Background(colour.GetForeground()).Foreground(lipgloss.Color(ink))
	}
	p := &palette{
		text:    lipgloss.NewStyle(),
		bright:  lipgloss.NewStyle().Bold(true),
		dim:     pick("#7d8aa3", "#66728a"),
		faint:   pick("#53617b", "#a5aebf"),
		current: pick("#5fcf9f", "#0a7a4b"),
		moving:  pick("#64b5ff", "#0b5fb0"),
		broken:  pick("#ff6f6f", "#b3201f"),
		stale:   pick("#e8b04b", "#8f5b00"),
		chosen:  lipgloss.NewStyle().Reverse(true),
	}
	p.banner = map[api.VerdictWord]lipgloss.Style{
		api.VerdictCurrent: banner(p.current), api.VerdictUpdating: banner(p.moving), api.VerdictStale: banner(p.stale),
		api.VerdictBroken: banner(p.broken), api.VerdictStopped: banner(p.dim),
	}
	for _, c := range unitColours {
		p.units = append(p.units, pick(c[0], c[1]))
	}
	return p
}

// unitStyles gives each unit a colour that stays with its name from day to day,
// as far as the units of one project do not meet in the same one.
func (p *palette) unitStyles(names []string) map[string]lipgloss.Style {
	styles := map[string]lipgloss.Style{}
	taken := map[int]bool{}
	for _, name := range names {
		h := fnv.New32a()
		h.Write([]byte(name))
		i := int(h.Sum32() % uint32(len(p.units)))
		for range p.units {
			if !taken[i] || len(taken) >= len(p.units) {
				break
			}
			i = (i + 1) % len(p.units)
		}
		taken[i] = true
		styles[name] = p.units[i]
	}
	return styles
}

// texture is how a state is drawn along a lane: a glyph that tells it apart
// without colour, and the colour of its meaning.
func (p *palette) texture(c timeline.Cell) (string, lipgloss.Style) {
	if c.Stale {
		switch c.State {
		case api.Ready:
			return "┅", p.stale
		case api.Done:
			return "┄", p.stale
		}
	}
	switch c.State {
	case timeline.Debounce:
		return "▁", p.dim
	case timeline.Queued:
		return ":", p.moving
	case api.Waiting:
		return "·", p.moving
	case api.Setup:
		return "░", p.moving
	case api.Starting:
		return "▒", p.moving
	case api.Running:
		return "█", p.moving
	case api.Stopping:
		return "╌", p.moving
	case api.Ready:
		return "━", p.current
	case api.Done:
		return "─", p.current
	case api.Failed:
		return "╱", p.broken
	case api.Crashed:
		return "╳", p.broken
	}
	return " ", p.text
}

// toneStyle is the colour of what Omnivigil says.
func (p *palette) toneStyle(t api.Tone) lipgloss.Style {
	switch t {
	case api.ToneCurrent:
		return p.current
	case api.ToneMoving:
		return p.moving
	case api.ToneStale:
		return p.stale
	case api.ToneBroken:
		return p.broken
	}
	return p.dim
}

// stateStyle is the colour of a unit's state word.
func (p *palette) stateStyle(u *api.Unit) lipgloss.Style {
	switch {
	case u.State.Broken():
		return p.broken
	case u.Freshness == api.Stale:
		return p.stale
	case u.Moving:
		return p.moving
	case u.Freshness == api.Current:
		return p.current
	}
	return p.dim
}
