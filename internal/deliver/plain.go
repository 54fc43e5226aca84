package deliver

import (
	"strings"
	"unicode/utf8"

	"ironbell/internal/core/phrase"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

const (
	plainRows  = 100 // of one table; more are counted
	plainWidth = 40  // of one cell, in characters
)

// PlainOf writes the HTML of a mail's body as text that reads well in a client
// that shows no HTML: headings with a line under them, tables as columns set with
// blanks, pictures by their words.
func PlainOf(markup string) string {
	nodes, err := html.ParseFragment(strings.NewReader(markup), &html.Node{
		Type: html.ElementNode, Data: "body", DataAtom: atom.Body,
	})
	if err != nil {
		return "" // the parser takes everything
	}
	var p plainText
	for _, n := range nodes {
		p.node(n)
	}
	p.end()
	return strings.TrimSpace(p.out.String())
}

type plainText struct {
	out  strings.Builder
	line strings.Builder
}

// end ends a line that has something on it.
func (p *plainText) end() {
	if text := strings.Join(strings.Fields(p.line.String()), " "); text != "" {
		p.out.WriteString(text + "\n")
	}
	p.line.Reset()
}

// gap leaves one line free, but none at the start.
func (p *plainText) gap() {
	p.end()
	if p.out.Len() > 0 && !strings.HasSuffix(p.out.String(), "\n\n") {
		p.out.WriteString("\n")
	}
}

func (p *plainText) node(n *html.Node) {
	switch n.Type {
	case html.TextNode:
		p.line.WriteString(n.Data)
		return
	case html.ElementNode:
	default:
		p.children(n)
		return
	}
	switch n.DataAtom {
	case atom.Style, atom.Script, atom.Title, atom.Head:
	case atom.H1, atom.H2, atom.H3, atom.H4:
		p.gap()
		text := textOf(n)
		p.out.WriteString(text + "\n" + strings.Repeat("-", min(utf8.RuneCountInString(text), 72)) + "\n")
	case atom.Table:
		p.gap()
		p.table(n)
		p.gap()
	case atom.Img:
		if alt := attr(n, "alt"); alt != "" {
			p.gap()
			p.out.WriteString("[" + alt + "]\n")
		}
	case atom.Br:
		p.end()
	case atom.Li:
		p.end()
		p.line.WriteString("- ")
		p.children(n)
		p.end()
	case atom.P, atom.Ul, atom.Ol, atom.Section:
		p.gap()
		p.children(n)
		p.end()
	case atom.Div, atom.Dl, atom.Dt, atom.Dd, atom.Tr, atom.Td, atom.Th:
		p.end()
		p.children(n)
		p.end()
	default:
		p.children(n)
	}
}

func (p *plainText) children(n *html.Node) {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		p.node(c)
	}
}

// layoutRole is the role of a table that only serves the layout (WAI-ARIA 1.2, section 5.4).
const layoutRole = "presentation"

// table sets a table in columns, under its caption. One that only serves the layout is read as text.
func (p *plainText) table(n *html.Node) {
	rows, right := cellsOf(n)
	if figures := figureCells(n); figures != nil {
		rows, right = figures, map[int]bool{1: true}
	}
	for c := n.FirstChild; c != nil && rows != nil; c = c.NextSibling {
		if text := textOf(c); c.DataAtom == atom.Caption && text != "" {
			p.out.WriteString(text + "\n\n")
		}
	}
	if rows == nil {
		p.children(n)
		return
	}
	width := []int{}
	shown := rows[:min(len(rows), plainRows+1)]
	for _, r := range shown {
		for i, c := range r {
			if i == len(width) {
				width = append(width, 0)
			}
			width[i] = max(width[i], utf8.RuneCountInString(c))
		}
	}
	for at, r := range shown {
		var line strings.Builder
		for i, c := range r {
			blank := strings.Repeat(" ", width[i]-utf8.RuneCountInString(c))
			if right[i] {
				line.WriteString(blank + c)
			} else {
				line.WriteString(c + blank)
			}
			line.WriteString("  ")
		}
		p.out.WriteString(strings.TrimRight(line.String(), " ") + "\n")
		if at == 0 && hasHead(n) {
			rules := make([]string, len(width))
			for i, w := range width {
				rules[i] = strings.Repeat("-", w)
			}
			p.out.WriteString(strings.Join(rules, "  ") + "\n")
		}
	}
	if more := len(rows) - len(shown); more > 0 {
		p.out.WriteString("and " + phrase.Count(more, "more row") + "\n")
	}
}

// cellsOf reads a table's cells, and which columns are set to the right; nothing
// when it holds another table, or only one column or row.
func cellsOf(n *html.Node) (rows [][]string, right map[int]bool) {
	right = map[int]bool{}
	layout, widest := attr(n, "role") == layoutRole, 0
	var walk func(n *html.Node)
	walk = func(n *html.Node) {
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			switch c.DataAtom {
			case atom.Table:
				layout = true
			case atom.Tr:
				var r []string
				for d := c.FirstChild; d != nil; d = d.NextSibling {
					if d.DataAtom != atom.Td && d.DataAtom != atom.Th {
						continue
					}
					text := textOf(d)
					if short := []rune(text); len(short) > plainWidth {
						text = string(short[:plainWidth-1]) + "…"
					}
					if strings.Contains(attr(d, "style"), "text-align:right") || attr(d, "align") == "right" {
						right[len(r)] = true
					}
					r = append(r, text)
				}
				if len(r) > 0 {
					rows = append(rows, r)
					widest = max(widest, len(r))
				}
				walk(c)
			default:
				walk(c)
			}
		}
	}
	walk(n)
	if layout || widest < 2 || len(rows) < 2 {
		return nil, nil
	}
	return rows, right
}

func hasHead(n *html.Node) bool {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if c.DataAtom == atom.Th || hasHead(c) {
			return true
		}
	}
	return false
}

func textOf(n *html.Node) string {
	var b strings.Builder
	var walk func(n *html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.TextNode {
			b.WriteString(n.Data)
		}
		if n.DataAtom == atom.Br {
			b.WriteString(" ")
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
	}
	walk(n)
	return strings.Join(strings.Fields(b.String()), " ")
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}
