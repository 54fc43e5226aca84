package deliver

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"html"
	"regexp"
	"strings"

	"ironbell/internal/house"

	nethtml "golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// dark are the colours of a mail by night, by those that stand in its inline styles. Programs that know no media
// queries show it by day, or turn the colours over themselves.
var dark = [][2]string{
	{"color:#24272b", "color:#ece7dc"},
	{"color:#5d6167", "color:#b9b4a8"},
	{"color:#6b6f76", "color:#a9a498"},
	{"color:#86561b", "color:#e0a95f"},
	{"color:#1f6b4f", "color:#7cc7a5"},
	{"color:#8a5f00", "color:#e3b341"},
	{"color:#a8321a", "color:#f0917b"},
	{"background:#fbf8f2", "background:#1c1e21"},
	{"solid #e5ddcd", "border-color:#43464b"},
	{"solid #86561b", "border-color:#b5803f"},
}

// styles is the style sheet of a mail: what inline styles cannot say. Wide tables scroll within the screen, and
// pictures keep within it.
func styles(look *house.Look) string {
	var b strings.Builder
	b.WriteString(":root{color-scheme:light dark;supported-color-schemes:light dark}\n" +
		"@media (max-width:600px){body{padding:12px!important}img{height:auto!important}" +
		"table[role=presentation] td{display:inline-block!important;padding-right:16px!important}}\n" +
		"@media (prefers-color-scheme:dark){\n")
	for _, d := range dark {
		by := d[1]
		if look.Accent != house.Accent {
			by = strings.NewReplacer("#e0a95f", "#"+look.ByNight(), "#b5803f", "#"+look.ByNight()).Replace(by)
		}
		b.WriteString(`[style*="` + look.CSS(d[0]) + `"]{` + by + "!important}\n")
	}
	b.WriteString("}\n")
	return b.String()
}

// filler keeps the words that follow the first line out of what mail programs show beside the subject.
var filler = strings.Repeat("&#847;&zwnj;&nbsp;", 40)

// Page is the HTML form of a letter, its pictures in it, as a browser shows it.
func Page(l Letter) string {
	look := l.House
	if look == nil {
		look = house.Plain()
	}
	var b strings.Builder
	b.WriteString("<!doctype html>\n<html lang=\"" + html.EscapeString(cmp.Or(l.Lang, "en")) + "\"><head><meta charset=\"utf-8\">" +
		"<meta name=\"viewport\" content=\"width=device-width\"><meta name=\"color-scheme\" content=\"light dark\">" +
		"<meta name=\"supported-color-schemes\" content=\"light dark\"><title>" +
		html.EscapeString(l.Subject) + "</title>\n<style>\n" + styles(look) + "</style></head>\n" +
		look.CSS("<body style=\"margin:0;padding:20px;background:#fbf8f2;font:15px/1.5 'Segoe "+
			"UI',Helvetica,Arial,sans-serif;color:#24272b\">\n"))
	if l.FirstLine != "" && !strings.HasPrefix(l.Plain, l.FirstLine) {
		b.WriteString("<div style=\"display:none;max-height:0;overflow:hidden\">" + html.EscapeString(l.FirstLine) + filler +
			"</div>\n")
	}
	if look.Logo != nil {
		w, h := look.Logo.Within(house.MailWide, house.MailHigh)
		fmt.Fprintf(&b, "<p style=\"margin:0 0 14px\"><img alt=\"%s\" width=\"%.0f\" height=\"%.0f\" "+
			"style=\"background:#ffffff;padding:6px\" %s%s\"></p>\n", html.EscapeString(look.Name), w, h, pictureMark,
			base64.StdEncoding.EncodeToString(look.Logo.Small))
	}
	for _, paragraph := range strings.Split(strings.TrimSpace(l.Plain), "\n\n") {
		b.WriteString("<p style=\"margin:0 0 14px\">" +
			strings.ReplaceAll(linked(html.EscapeString(paragraph), look), "\n", "<br>\n") + "</p>\n")
	}
	for _, t := range l.Tables {
		b.WriteString("<div style=\"overflow-x:auto\">" + t + "</div>\n")
	}
	if l.Footer != "" {
		b.WriteString(look.CSS("<p style=\"margin:18px 0 0;padding-top:8px;border-top:1px solid "+
			"#e5ddcd;font-size:12px;color:#5d6167\">") + html.EscapeString(l.Footer))
		for _, line := range []string{look.Footer, look.Legal} {
			if line != "" {
				b.WriteString("<br>\n" + html.EscapeString(line))
			}
		}
		b.WriteString("</p>\n")
	}
	b.WriteString("</body></html>\n")
	return b.String()
}

var webAddress = regexp.MustCompile(`https?://[^\s<>"]+[^\s<>".,;:)]`)

// linked makes links of the web addresses in escaped text.
func linked(escaped string, look *house.Look) string {
	return webAddress.ReplaceAllString(escaped, look.CSS(`<a href="$0" style="color:#86561b">$0</a>`))
}

// Bounds of a first line that is made of figures: what mail programs show of it.
const (
	firstFigures = 5
	firstLetters = 120
)

// figuresIn gives the first figures of the tables as one line, such as "On time 91.2 %, Routes late 3"; nothing when
// they begin with none.
func figuresIn(tables []string) string {
	for _, t := range tables {
		nodes, err := nethtml.ParseFragment(strings.NewReader(t), &nethtml.Node{
			Type: nethtml.ElementNode, Data: "body", DataAtom: atom.Body,
		})
		if err != nil {
			return ""
		}
		for _, n := range nodes {
			if line := figuresOf(n); line != "" {
				return line
			}
		}
	}
	return ""
}

// figuresOf reads the first table of figures below a node as one line.
func figuresOf(n *nethtml.Node) string {
	if n.DataAtom != atom.Table {
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			if line := figuresOf(c); line != "" {
				return line
			}
		}
		return ""
	}
	var all []string
	letters := 0
	for _, f := range figureCells(n) {
		one := strings.TrimSpace(f[0] + " " + f[1])
		if letters += len([]rune(one)) + 2; letters <= firstLetters && len(all) < firstFigures {
			all = append(all, one)
		}
	}
	return strings.Join(all, ", ")
}

// figureCells reads a table of figures: the label, the number and the change of each; none of another table.
func figureCells(n *nethtml.Node) (all [][]string) {
	if attr(n, "role") != layoutRole {
		return nil
	}
	var walk func(n *nethtml.Node)
	walk = func(n *nethtml.Node) {
		if n.DataAtom != atom.Td {
			for c := n.FirstChild; c != nil; c = c.NextSibling {
				walk(c)
			}
			return
		}
		var texts []string
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			if c.DataAtom == atom.Span {
				texts = append(texts, textOf(c))
			}
		}
		if len(texts) == 3 {
			all = append(all, texts)
		}
	}
	walk(n)
	return all
}
