package manual

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	east "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/text"
)

// Styles of the terminal: bold for titles and emphasis, underlined for links, faint for what frames.
const (
	bold, underline, faint, plain = "\x1b[1m", "\x1b[4m", "\x1b[2m", "\x1b[m"
	margin                        = "  "
)

// formatted is Markdown as a text for a terminal of a width.
func formatted(markdown string, width int) string {
	source := []byte(markdown)
	parsed := goldmark.New(goldmark.WithExtensions(extension.Table)).Parser().Parse(text.NewReader(source))
	p := &printer{source: source, width: width - len(margin)}
	p.blocks(parsed, margin)
	return strings.TrimLeft(p.String(), "\n")
}

// printer prints blocks.
type printer struct {
	strings.Builder
	source []byte
	width  int
}

// blocks prints the blocks below a node, each after an empty line.
func (p *printer) blocks(of ast.Node, indent string) {
	for n := of.FirstChild(); n != nil; n = n.NextSibling() {
		p.WriteString("\n")
		switch n := n.(type) {
		case *ast.Heading:
			p.WriteString(bold + p.inline(n) + plain + "\n")
		case *ast.FencedCodeBlock, *ast.CodeBlock:
			for i := range n.Lines().Len() {
				line := n.Lines().At(i)
				p.WriteString(indent + margin + strings.TrimRight(string(line.Value(p.source)), "\n") + "\n")
			}
		case *ast.List:
			for item := n.FirstChild(); item != nil; item = item.NextSibling() {
				p.paragraph(p.inline(item.FirstChild()), indent+"- ", indent+"  ")
				if rest := item.FirstChild(); rest != nil && rest.NextSibling() != nil {
					p.after(rest, indent+"  ")
				}
			}
		case *east.Table:
			p.table(n, indent)
		case *ast.Paragraph, *ast.TextBlock:
			p.paragraph(p.inline(n), indent, indent)
		default:
			p.blocks(n, indent)
		}
	}
}

// after prints the blocks after a node.
func (p *printer) after(of ast.Node, indent string) {
	for n := of.NextSibling(); n != nil; n = n.NextSibling() {
		p.paragraph(p.inline(n), indent, indent)
	}
}

// paragraph prints a wrapped text.
func (p *printer) paragraph(text, first, rest string) {
	for i, line := range strings.Split(ansi.Wordwrap(text, max(p.width-len(rest), 20), ""), "\n") {
		if i > 0 {
			first = rest
		}
		p.WriteString(first + line + "\n")
	}
}

// table prints the first cell of each row as a title, and the others below it: wide tables do not fit into a terminal.
func (p *printer) table(t *east.Table, indent string) {
	for row := t.FirstChild(); row != nil; row = row.NextSibling() {
		if _, is := row.(*east.TableHeader); is {
			var titles []string
			for cell := row.FirstChild(); cell != nil; cell = cell.NextSibling() {
				titles = append(titles, p.inline(cell))
			}
			p.paragraph(faint+strings.Join(titles, " | ")+plain, indent, indent)
			continue
		}
		cell := row.FirstChild()
		p.paragraph(p.inline(cell), indent, indent)
		for cell = cell.NextSibling(); cell != nil; cell = cell.NextSibling() {
			if text := p.inline(cell); text != "" {
				p.paragraph(text, indent+"    ", indent+"    ")
			}
		}
	}
}

// inline is the text of a node on one line, with styles.
func (p *printer) inline(of ast.Node) string {
	var b strings.Builder
	for n := of.FirstChild(); n != nil; n = n.NextSibling() {
		switch n := n.(type) {
		case *ast.Text:
			b.Write(n.Value(p.source))
			if n.SoftLineBreak() || n.HardLineBreak() {
				b.WriteByte(' ')
			}
		case *ast.CodeSpan:
			b.WriteString(bold + p.inline(n) + plain)
		case *ast.Emphasis:
			b.WriteString(underline + p.inline(n) + plain)
		case *ast.Link:
			b.WriteString(p.inline(n))
			if to := string(n.Destination); strings.Contains(to, "://") {
				b.WriteString(" (" + to + ")")
			}
		case *ast.AutoLink:
			b.Write(n.URL(p.source))
		case *ast.Image: // a terminal cannot show it
		default:
			b.WriteString(p.inline(n))
		}
	}
	return b.String()
}
