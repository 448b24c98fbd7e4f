package cli

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

// printer writes to one stream, with colours when it is a terminal that wants them.
type printer struct {
	io.Writer
	color bool
	tty   bool
	width int // of the terminal; 0 when it is none, and nothing is cut

	unfolded int // fields of new objects that were shown whole
}

// seam stands around the colours that a printer puts on, until they are written: nobody else can know it, so that everything
// else that a terminal would obey is written out.
var seam = rand.Text()

// shown writes a printer's text: its own colours as such, whatever else a terminal would obey in letters.
type shown struct{ io.Writer }

func (s shown) Write(b []byte) (int, error) {
	parts := strings.Split(string(b), seam)
	for i, part := range parts {
		if i%2 == 0 {
			parts[i] = visible.Text(part)
		} else {
			parts[i] = "\x1b[" + part
		}
	}
	_, err := io.WriteString(s.Writer, strings.Join(parts, ""))
	return len(b), err
}

// newPrinter prints without colours.
func newPrinter(w io.Writer) *printer { return &printer{Writer: shown{w}} }

func (a *app) printer(w io.Writer) *printer {
	p := newPrinter(w)
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.tty = true
		p.width, _, _ = term.GetSize(int(f.Fd()))
		p.color = !a.plain && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	if a.width > 0 {
		p.tty, p.width = true, a.width
	}
	return p
}

func (p *printer) line(format string, args ...any) { fmt.Fprintf(p, format+"\n", args...) }

// document prints a value as JSON or YAML; false when text is wanted.
func (a *app) document(w io.Writer, v any) (bool, error) { return Document(w, a.output, v) }

// Document prints a value as -o says, json or yaml; false when text is wanted.
func Document(w io.Writer, output string, v any) (bool, error) {
	switch output {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return true, e.Encode(v)
	case "yaml":
		b, err := yaml.Marshal(v)
		if err != nil {
			return true, err
		}
		_, err = w.Write(b)
		return true, err
	}
	return false, nil
}

// The palette of the console, as the nearest of 256 terminal colours.
var colors = map[string]string{
	"behind": "38;5;39", "drifted": "38;5;214", "failing": "38;5;208", "contested": "38;5;175", "soft": "38;5;245", "bold": "1",
}

func (p *printer) paint(color, s string) string {
	if c := colors[color]; p.color && c != "" && s != "" {
		return p.control(c+"m") + s + p.control("0m")
	}
	return s
}

// control is what a terminal is to obey: a control sequence without its beginning.
func (p *printer) control(sequence string) string { return seam + sequence + seam }

var standingGlyph = map[client.Standing]string{"in step": "=", "behind": "<", "drifted": "≠", "contested": "⇄", "blind": "?"}
var healthGlyph = map[client.Health]string{"ready": "●", "settling": "◐", "failing": "▲", "absent": "○", "unknown": "·"}

func (p *printer) health(h client.Health) string {
	return p.paint(string(h), healthGlyph[h]+" "+string(h))
}

// cell is one text of a table: its colour is put on after the widths are known.
type cell struct{ text, color string }

func plain(s string) cell { return cell{text: visible.Line(s)} }

// readable is how much of the last column, which says most, has to fit on its line.
const readable = 34

// table prints rows in columns two spaces apart. On a terminal the last column is cut where a line would wrap,
// with a mark; elsewhere nothing is. Where a terminal is too narrow for that, each row has lines of its own.
func (p *printer) table(rows [][]cell) {
	widths := widthsOf(rows)
	before := 0
	for _, w := range widths[:max(len(widths)-1, 0)] {
		before += w + 2
	}
	if p.width > 0 && len(widths) > 2 && before+min(readable, widths[len(widths)-1]) > p.width {
		p.flow(rows)
		return
	}
	p.columns(rows, widths, p.width)
}

// flow prints the cells of each row one after the other, over as many lines as that takes; the heads of columns say nothing then.
func (p *printer) flow(rows [][]cell) {
	for i, r := range rows {
		if i == 0 && len(r) > 1 && r[0].color == "soft" && r[1].color == "soft" {
			continue
		}
		var b strings.Builder
		used := 0
		for j, c := range r {
			n := utf8.RuneCountInString(c.text)
			switch {
			case n == 0:
				continue
			case used == 0:
			case j == len(r)-1 && n > readable || used+2+n > p.width:
				b.WriteString("\n    ")
				used = 4
			default:
				b.WriteString("  ")
				used += 2
			}
			c.text = clip(c.text, p.width-used)
			b.WriteString(p.paint(c.color, c.text))
			used += utf8.RuneCountInString(c.text)
		}
		p.line("%s", b.String())
	}
}

// span says a time in words: 4 s, 36 min, 7 h, 3 d.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return "0 s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

func ago(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return span(time.Since(t)) + " ago"
}

func since(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return span(time.Since(t))
}

func short(r client.Revision) string {
	return r.Id[:min(7, len(r.Id))]
}

func title(r client.Revision) string { return strings.TrimSpace(short(r) + " " + r.Subject) }

// value prints a field's value on one line.
func value(v any) string {
	switch v := v.(type) {
	case nil:
		return "nothing"
	case string:
		if v == "" || strings.ContainsAny(v, "\n\t") {
			return fmt.Sprintf("%q", v)
		}
		return v
	case float64:
		b, _ := json.Marshal(v)
		return string(b)
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// who says who changed a field, and when.
func who(d client.Difference) string {
	s := d.Who
	if s == "" {
		s = "somebody"
	}
	if d.Likely {
		s = "probably " + s
	}
	if !d.When.IsZero() {
		s += ", " + ago(d.When)
	}
	return s
}

func pairs(m map[string]string) string {
	var out []string
	for k, v := range m {
		out = append(out, k+"="+v)
	}
	sort.Strings(out)
	return strings.Join(out, ",")
}

// clip cuts a text to n runes, with a mark.
func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
