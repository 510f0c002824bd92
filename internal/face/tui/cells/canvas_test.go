package cells

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/assert"
)

// TestStripsAreStyled compares rows with what the styles themselves make of the same pieces.
func TestStripsAreStyled(t *testing.T) {
	red := lipgloss.NewStyle().Foreground(lipgloss.Color("#ff0000"))
	for name, style := range map[string]lipgloss.Style{
		"none":      lipgloss.NewStyle(),
		"color":     red,
		"banner":    red.Bold(true).Background(lipgloss.Color("#0000ff")),
		"faint":     lipgloss.NewStyle().Faint(true),
		"reverse":   lipgloss.NewStyle().Reverse(true),
		"underline": lipgloss.NewStyle().Underline(true),
		"struck":    lipgloss.NewStyle().Strikethrough(true),
		"link":      lipgloss.NewStyle().Hyperlink("https://example.org"),
	} {
		other := lipgloss.NewStyle().Italic(true)
		for _, text := range []string{"tide", "  ", "a b ", "渡し船", "e\u0301", ""} {
			s := NewStrip(12, "·", &other)
			s.Write(1, text, &style)
			width := lipgloss.Width(text)
			want := other.Render("·") + style.Render(text) + other.Render(strings.Repeat("·", 11-width))
			if text == "" {
				want = other.Render(strings.Repeat("·", 12))
			}
			assert.Equal(t, want, s.String(), "%s %q", name, text)
			assert.Equal(t, want, s.String(), "again")
		}
	}
}
