package manual

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"
)

// Styles of the terminal: bold for titles and emphasis, underlined for links, faint for what frames.
const (
	bold, underline, faint, plain = "\x1b[1m", "\x1b[4m", "\x1b[2m", "\x1b[m"
	margin                        = "  "
)

// formatted is Markdown as a text for a terminal of a width.
func formatted(markdown string, width int) string {
	p := &printer{parser: goldmark.DefaultParser(), source: []byte(markdown), width: width - len(margin)}
	p.blocks(p.parser.Parse(text.NewReader(p.source)), margin)
	return strings.TrimLeft(p.String(), "\n")
}

// printer prints blocks.
type printer struct {
	strings.Builder
	parser parser.Parser
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
		case *ast.Paragraph:
			if rows := p.rowsOf(n); rows != nil {
				p.table(rows, indent)
			} else {
				p.paragraph(p.inline(n), indent, indent)
			}
		case *ast.TextBlock:
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

// rowsOf returns the cells of a table, the titles first; nil: the paragraph is none. Tables are no part of CommonMark,
// and the package that reads them takes a millisecond to start, whatever the program does then.
func (p *printer) rowsOf(paragraph *ast.Paragraph) (rows [][]string) {
	for i := range paragraph.Lines().Len() {
		segment := paragraph.Lines().At(i)
		line, is := strings.CutPrefix(strings.TrimSpace(string(segment.Value(p.source))), "|")
		if !is {
			return nil
		}
		if i == 1 { // the rule below the titles
			continue
		}
		var cells []string
		for _, cell := range strings.Split(strings.ReplaceAll(strings.TrimSuffix(line, "|"), `\|`, "\x00"), "|") {
			cells = append(cells, p.cell(strings.ReplaceAll(cell, "\x00", "|")))
		}
		rows = append(rows, cells)
	}
	return rows
}

// cell is the text of a cell, with styles.
func (p *printer) cell(markdown string) string {
	of := printer{source: []byte(strings.TrimSpace(markdown))}
	if block := p.parser.Parse(text.NewReader(of.source)).FirstChild(); block != nil {
		return of.inline(block)
	}
	return ""
}

// table prints the first cell of each row as a title, and the others below it: wide tables do not fit into a terminal.
func (p *printer) table(rows [][]string, indent string) {
	p.paragraph(faint+strings.Join(rows[0], " | ")+plain, indent, indent)
	for _, cells := range rows[1:] {
		p.paragraph(cells[0], indent, indent)
		for _, text := range cells[1:] {
			if text != "" {
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
