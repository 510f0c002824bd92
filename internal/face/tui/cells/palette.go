package cells

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

// Palette is every color and weight of the screen, for one ground. Four
// meanings have a color each; each is also a word and a texture, so that the
// screen can be read in grey. Text keeps the terminal's own colors.
type Palette struct {
	Text, Bright, Dim, Faint lipgloss.Style
	Current, Moving          lipgloss.Style
	Broken, Stale            lipgloss.Style
	Chosen                   lipgloss.Style // the row and the moment one points at
	Banner                   map[api.VerdictWord]lipgloss.Style
	Units                    []lipgloss.Style
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

// Ground is what the screen is drawn on.
type Ground int

const (
	AnyGround Ground = iota // not known: colors between those of the others read on both
	DarkGround
	LightGround
)

// GroundOf is the ground that COLORFGBG tells, as some terminals and multiplexers set it: the numbers
// of the colors of text and ground, of which the ground's comes last. Of the sixteen, 0 to 6 and 8
// are dark. A terminal that answers when it is asked knows better.
func GroundOf(colorfgbg string) Ground {
	n, err := strconv.Atoi(colorfgbg[strings.LastIndexByte(colorfgbg, ';')+1:])
	switch {
	case err != nil || n < 0 || n > 15:
		return AnyGround
	case n < 7 || n == 8:
		return DarkGround
	}
	return LightGround
}

// color is a hue as it reads on the ground.
func (g Ground) color(h theme.Hue) string {
	switch g {
	case DarkGround:
		return h.OnDark
	case LightGround:
		return h.OnLight
	}
	return h.OnAny()
}

// NewPalette is the palette for a ground. Where the terminal has no more than sixteen colors, they
// are its own, which a user has chosen to read on theirs.
func NewPalette(of Ground, profile colorprofile.Profile) *Palette {
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
		case of == DarkGround:
			ink = "#0b1220"
		}
		return lipgloss.NewStyle().Bold(true).Background(color.GetForeground()).Foreground(lipgloss.Color(ink))
	}
	p := &Palette{
		Text:    lipgloss.NewStyle(),
		Bright:  lipgloss.NewStyle().Bold(true),
		Dim:     pick(theme.Dim),
		Faint:   pick(theme.Faint),
		Current: pick(theme.Current),
		Moving:  pick(theme.Moving),
		Broken:  pick(theme.Broken),
		Stale:   pick(theme.Stale),
		Chosen:  lipgloss.NewStyle().Reverse(true),
	}
	p.Banner = map[api.VerdictWord]lipgloss.Style{}
	for _, word := range []api.VerdictWord{
		api.VerdictCurrent, api.VerdictUpdating, api.VerdictStale, api.VerdictBroken, api.VerdictStopped,
	} {
		p.Banner[word] = banner(p.VerdictStyle(word))
	}
	for _, h := range theme.Units {
		p.Units = append(p.Units, pick(h))
	}
	if few {
		p.Units = fewUnits
	}
	return p
}

// UnitStyles gives each unit a color that stays with its name from day to day,
// as far as the units of one project do not meet in the same one.
func (p *Palette) UnitStyles(names []string) map[string]lipgloss.Style {
	styles := map[string]lipgloss.Style{}
	taken := map[int]bool{}
	for _, name := range names {
		h := fnv.New32a()
		h.Write([]byte(name))
		i := int(h.Sum32() % uint32(len(p.Units)))
		for range p.Units {
			if !taken[i] || len(taken) >= len(p.Units) {
				break
			}
			i = (i + 1) % len(p.Units)
		}
		taken[i] = true
		styles[name] = p.Units[i]
	}
	return styles
}

// Texture is how a state is drawn along a lane: a glyph that tells it apart
// without color, and the color of its meaning.
func (p *Palette) Texture(c timeline.Cell) (string, lipgloss.Style) {
	if c.Stale {
		switch c.State {
		case api.Ready:
			return "┅", p.Stale
		case api.Done:
			return "┄", p.Stale
		}
	}
	switch c.State {
	case timeline.Debounce:
		return "▁", p.Dim
	case timeline.Queued:
		return ":", p.Moving
	case api.Waiting:
		return "·", p.Moving
	case api.Setup:
		return "░", p.Moving
	case api.Starting:
		return "▒", p.Moving
	case api.Running:
		return "█", p.Moving
	case api.Stopping:
		return "╌", p.Moving
	case api.Ready:
		return "━", p.Current
	case api.Done:
		return "─", p.Current
	case api.Failed:
		return "╱", p.Broken
	case api.Crashed:
		return "╳", p.Broken
	}
	return " ", p.Text
}

// VerdictStyle is the color of a verdict.
func (p *Palette) VerdictStyle(word api.VerdictWord) lipgloss.Style { return p.ToneStyle(word.Tone()) }

// ToneStyle is the color of what Omnivigil says.
func (p *Palette) ToneStyle(t api.Tone) lipgloss.Style {
	switch t {
	case api.ToneCurrent:
		return p.Current
	case api.ToneMoving:
		return p.Moving
	case api.ToneStale:
		return p.Stale
	case api.ToneBroken:
		return p.Broken
	}
	return p.Dim
}
