package tui

import (
	"hash/fnv"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/theme"
)

// palette is every color and weight of the screen, for one ground. Four
// meanings have a color each; each is also a word and a texture, so that the
// screen can be read in grey. Text keeps the terminal's own colors.
type palette struct {
	text, bright, dim, faint lipgloss.Style
	current, moving          lipgloss.Style
	broken, stale            lipgloss.Style
	chosen                   lipgloss.Style // the row and the moment one points at
	banner                   map[api.VerdictWord]lipgloss.Style
	units                    []lipgloss.Style
}

// fewColors are the hues among a terminal's own sixteen colors. What steps back is the text's own
// color, fainter: the grey of some terminals cannot be read, nor their blue.
var fewColors = map[theme.Hue]lipgloss.Style{
	theme.Current: ansi16(2), theme.Moving: ansi16(6), theme.Broken: ansi16(1), theme.Stale: ansi16(3),
	theme.Dim: lipgloss.NewStyle().Faint(true), theme.Faint: lipgloss.NewStyle().Faint(true),
}

// fewUnits are those of units, apart from the four meanings.
var fewUnits = []lipgloss.Style{ansi16(5), lipgloss.NewStyle(), ansi16(13), lipgloss.NewStyle().Bold(true)}

func ansi16(n int) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.ANSIColor(n)) }

// ground is what the screen is drawn on.
type ground int

const (
	anyGround ground = iota // not known: colors between those of the others read on both
	darkGround
	lightGround
)

// groundOf is the ground that COLORFGBG tells, as some terminals and multiplexers set it: the numbers
// of the colors of text and ground, of which the ground's comes last. Of the sixteen, 0 to 6 and 8
// are dark. A terminal that answers when it is asked knows better.
func groundOf(colorfgbg string) ground {
	n, err := strconv.Atoi(colorfgbg[strings.LastIndexByte(colorfgbg, ';')+1:])
	switch {
	case err != nil || n < 0 || n > 15:
		return anyGround
	case n < 7 || n == 8:
		return darkGround
	}
	return lightGround
}

// color is a hue as it reads on the ground.
func (g ground) color(h theme.Hue) string {
	switch g {
	case darkGround:
		return h.OnDark
	case lightGround:
		return h.OnLight
	}
	return h.OnAny()
}

// newPalette is the palette for a ground. Where the terminal has no more than sixteen colors, they
// are its own, which a user has chosen to read on theirs.
func newPalette(of ground, profile colorprofile.Profile) *palette {
	few := profile == colorprofile.ANSI
	pick := func(h theme.Hue) lipgloss.Style {
		if few {
			return fewColors[h]
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(of.color(h)))
	}
	banner := func(color lipgloss.Style) lipgloss.Style {
		ink := "#ffffff"
		switch {
		case few || profile == colorprofile.ASCII: // without color it stands out all the same
			return color.Bold(true).Reverse(true)
		case of == darkGround:
			ink = "#0b1220"
		}
		return lipgloss.NewStyle().Bold(true).Background(color.GetForeground()).Foreground(lipgloss.Color(ink))
	}
	p := &palette{
		text:    lipgloss.NewStyle(),
		bright:  lipgloss.NewStyle().Bold(true),
		dim:     pick(theme.Dim),
		faint:   pick(theme.Faint),
		current: pick(theme.Current),
		moving:  pick(theme.Moving),
		broken:  pick(theme.Broken),
		stale:   pick(theme.Stale),
		chosen:  lipgloss.NewStyle().Reverse(true),
	}
	p.banner = map[api.VerdictWord]lipgloss.Style{
		api.VerdictCurrent: banner(p.current), api.VerdictUpdating: banner(p.moving), api.VerdictStale: banner(p.stale),
		api.VerdictBroken: banner(p.broken), api.VerdictStopped: banner(p.dim),
	}
	for _, h := range theme.Units {
		p.units = append(p.units, pick(h))
	}
	if few {
		p.units = fewUnits
	}
	return p
}

// unitStyles gives each unit a color that stays with its name from day to day,
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
// without color, and the color of its meaning.
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

// toneStyle is the color of what Omnivigil says.
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
