package mail

import (
	"fmt"
	"net/url"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// looked is what an HTML part has in it.
type looked struct {
	pictures, links []string
	scripts, forms  bool
}

func lookAt(text string) (l looked) {
	root, err := html.Parse(strings.NewReader(text))
	if err != nil {
		return l
	}
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		switch n.DataAtom {
		case atom.Img:
			l.pictures = append(l.pictures, attribute(n, "src"))
		case atom.A, atom.Area:
			if href := attribute(n, "href"); href != "" {
				l.links = append(l.links, href)
			}
		case atom.Script:
			l.scripts = true
		case atom.Form:
			l.forms = true
		}
	}
	return l
}

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// Safe returns an HTML part as a document that asks for nothing outside and runs
// nothing: without scripts, forms, frames and what leads elsewhere by itself.
// Pictures in the message have the address that picture returns. The page that
// shows it has a policy of its own that sees to the same.
func Safe(text string, picture func(id string) string) string {
	root, err := html.Parse(strings.NewReader(text))
	if err != nil {
		return ""
	}
	clean(root, picture)
	var b strings.Builder
	if html.Render(&b, root) != nil {
		return ""
	}
	return b.String()
}

// taken are elements that go with all that is in them, opened are those that go
// alone.
var (
	taken = map[string]bool{"script": true, "iframe": true, "frame": true, "frameset": true, "object": true, "embed": true, "applet": true, "base": true, "meta": true, "link": true,
		"audio": true, "video": true, "source": true, "track": true, "svg": true, "math": true, "template": true, "noscript": true, "portal": true, "dialog": true}
	opened = map[string]bool{"form": true}
	barred = map[string]bool{"input": true, "button": true, "select": true, "textarea": true}
)

func clean(n *html.Node, picture func(string) string) {
	for c := n.FirstChild; c != nil; {
		next := c.NextSibling
		switch {
		case c.Type == html.CommentNode, c.Type == html.ElementNode && taken[c.Data]:
			n.RemoveChild(c)
		case c.Type == html.ElementNode:
			attributes(c, picture)
			if opened[c.Data] {
				c.Data, c.DataAtom, c.Attr = "div", atom.Div, nil
			}
			if barred[c.Data] {
				c.Attr = append(c.Attr, html.Attribute{Key: "disabled"})
			}
			clean(c, picture)
		}
		c = next
	}
}

func attributes(n *html.Node, picture func(string) string) {
	kept := n.Attr[:0]
	for _, a := range n.Attr {
		name := strings.ToLower(a.Key)
		switch {
		case strings.HasPrefix(name, "on"), name == "srcdoc", name == "formaction", name == "action", name == "ping", name == "srcset", name == "target", name == "rel", name == "http-equiv", name == "autofocus":
			continue
		case name == "src" || name == "background" || name == "poster" || name == "data":
			u, err := url.Parse(strings.TrimSpace(a.Val))
			switch {
			case err == nil && u.Scheme == "cid":
				a.Val = picture(u.Opaque)
			case err == nil && u.Scheme == "data":
			default:
				continue
			}
		case name == "href":
			u, err := url.Parse(strings.TrimSpace(a.Val))
			if err != nil || u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "mailto" && u.Scheme != "tel" {
				continue
			}
		}
		kept = append(kept, a)
	}
	n.Attr = kept
	if n.DataAtom == atom.A {
		n.Attr = append(n.Attr, html.Attribute{Key: "target", Val: "_blank"}, html.Attribute{Key: "rel", Val: "noopener noreferrer"})
	}
}

// ReadableHTML returns an HTML part as a text, with its links in the order of their
// numbers in it.
func ReadableHTML(text string) (string, []string) {
	if text == "" {
		return "", nil
	}
	root, err := html.Parse(strings.NewReader(text))
	if err != nil {
		return "", nil
	}
	w := &writer{}
	w.children(root)
	lines := strings.Split(w.b.String(), "\n")
	var out []string
	for _, l := range lines { // one empty line between blocks
		l = strings.TrimRight(l, " ")
		if l == "" && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, l)
	}
	return strings.TrimSpace(strings.Join(out, "\n")), w.links
}

// writer writes an HTML tree as text.
type writer struct {
	b      strings.Builder
	links  []string
	indent string
	fresh  bool // at the beginning of a line
	space  bool // a blank is due before the next word
	pre    bool
	deep   int
}

func (w *writer) newline(empty bool) {
	if w.b.Len() == 0 {
		return
	}
	if !w.fresh {
		w.b.WriteByte('\n')
	}
	if empty {
		w.b.WriteByte('\n')
	}
	w.fresh, w.space = true, false
}

func (w *writer) text(s string) {
	if w.pre {
		for i, l := range strings.Split(s, "\n") {
			if i > 0 {
				w.b.WriteString("\n")
				w.fresh = true
			}
			if l != "" {
				if w.fresh {
					w.b.WriteString(w.indent)
				}
				w.b.WriteString(l)
				w.fresh = false
			}
		}
		return
	}
	words := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == '\n' || r == '\t' || r == '\r' || r == '\f' })
	if len(words) == 0 {
		w.space = w.space || s != ""
		return
	}
	w.space = w.space || strings.ContainsRune(" \n\t\r\f", rune(s[0]))
	for i, word := range words {
		switch {
		case w.fresh || w.b.Len() == 0:
			w.b.WriteString(w.indent)
		case i > 0 || w.space:
			w.b.WriteByte(' ')
		}
		w.b.WriteString(word)
		w.fresh, w.space = false, false
	}
	w.space = strings.ContainsRune(" \n\t\r\f", rune(s[len(s)-1]))
}

var blocks = map[string]bool{"p": true, "div": true, "section": true, "article": true, "header": true, "footer": true, "address": true, "blockquote": true, "table": true, "ul": true, "ol": true, "dl": true,
	"dt": true, "dd": true, "figure": true, "figcaption": true, "main": true, "nav": true, "aside": true, "center": true, "form": true, "fieldset": true, "hr": true, "pre": true}

// apart are blocks with an empty line around them.
var apart = map[string]bool{"p": true, "blockquote": true, "ul": true, "ol": true, "table": true, "pre": true, "figure": true}

func (w *writer) children(n *html.Node) {
	if w.deep++; w.deep > 200 {
		return
	}
	defer func() { w.deep-- }()
	item := 0
	for c := range n.ChildNodes() {
		switch {
		case c.Type == html.TextNode:
			w.text(c.Data)
		case c.Type != html.ElementNode:
			w.children(c)
		default:
			if c.Data == "li" {
				item++
			}
			w.element(n, c, item)
		}
	}
}

func (w *writer) element(parent, n *html.Node, item int) {
	switch n.Data {
	case "script", "style", "head", "title", "template", "noscript":
	case "br":
		if w.fresh {
			w.b.WriteByte('\n')
		} else {
			w.newline(false)
		}
	case "hr":
		w.newline(true)
		w.b.WriteString(w.indent + "————————")
		w.fresh = false
		w.newline(true)
	case "img":
		if alt := strings.TrimSpace(attribute(n, "alt")); alt != "" {
			w.text(" [" + alt + "] ")
		}
	case "h1", "h2", "h3", "h4", "h5", "h6":
		w.newline(true)
		from := w.b.Len()
		w.children(n)
		said := strings.TrimSpace(w.b.String()[from:])
		w.newline(false)
		if said != "" && n.Data <= "h2" {
			w.b.WriteString(w.indent + strings.Repeat(map[string]string{"h1": "═", "h2": "─"}[n.Data], min(60, len([]rune(said)))))
			w.fresh = false
		}
		w.newline(true)
	case "li":
		w.newline(false)
		mark := "• "
		if parent.Data == "ol" {
			mark = fmt.Sprintf("%d. ", item)
		}
		w.b.WriteString(w.indent + mark)
		was := w.indent
		w.indent += strings.Repeat(" ", len([]rune(mark)))
		w.fresh, w.space = false, false
		w.children(n)
		w.indent = was
		w.newline(false)
	case "tr":
		w.newline(false)
		w.children(n)
		w.newline(false)
	case "td", "th":
		if !w.fresh && w.b.Len() > 0 {
			w.text("  ")
			if s := w.b.String(); !strings.HasSuffix(s, " ") {
				w.b.WriteString("  ")
			}
			w.space = false
		}
		w.children(n)
	case "a":
		w.children(n)
		href := strings.TrimSpace(attribute(n, "href"))
		if href != "" && !strings.HasPrefix(href, "#") {
			w.links = append(w.links, href)
			w.text(fmt.Sprintf(" [%d]", len(w.links)))
		}
	case "blockquote":
		w.newline(true)
		was := w.indent
		w.indent += "│ "
		w.children(n)
		w.indent = was
		w.newline(true)
	case "pre":
		w.newline(true)
		w.pre = true
		w.children(n)
		w.pre = false
		w.newline(true)
	default:
		if blocks[n.Data] {
			w.newline(apart[n.Data])
		}
		w.children(n)
		if blocks[n.Data] {
			w.newline(apart[n.Data])
		}
	}
}
