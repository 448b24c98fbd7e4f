package notify

import (
	"fmt"
	"html/template"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/visible"
)

// heading says in a line what a message is about.
func heading(m alert.Message) string { return visible.Line(m.Title()) }

// Text is a message for people: what has happened, since when, the way out, and where to look.
func Text(e Envelope) string {
	m := e.Message
	var b strings.Builder
	b.WriteString(heading(m) + "\n")
	for _, i := range m.Items {
		b.WriteString("\n")
		if len(m.Items)+m.More > 1 {
			b.WriteString(visible.Line(i.Subject) + ": ")
		}
		b.WriteString(visible.Line(i.Text))
		if !i.Since.IsZero() {
			b.WriteString(fmt.Sprintf(" (since %s)", i.Since.UTC().Format("2006-01-02 15:04 UTC")))
		}
		b.WriteString("\n")
		if i.By != "" && m.Kind != alert.Over {
			b.WriteString(visible.Line(i.By) + "\n")
		}
		if i.Todo != "" && m.Kind != alert.Over {
			b.WriteString(visible.Line(i.Todo) + "\n")
		}
		if at := link(e.Console, i.Link); at != "" {
			b.WriteString(at + "\n")
		}
	}
	if m.More > 0 {
		b.WriteString(fmt.Sprintf("\nand %d more\n", m.More))
	}
	return strings.TrimRight(b.String(), "\n")
}

// page is a message as plain HTML; everything in it is escaped.
var page = template.Must(template.New("mail").Parse(`<!doctype html><html><body style="font-family: sans-serif; color: #1B2436">
<h2 style="font-size: 1.1em">{{.Heading}}</h2>
{{range .Items}}<p>{{if $.Many}}<b>{{.Subject}}</b>: {{end}}{{.Text}}{{if .Since}}<br><span style="color: #5D6677">since {{.Since}}</span>{{end}}{{if .By}}<br>{{.By}}{{end}}{{if .Todo}}<br>{{.Todo}}{{end}}{{if .Link}}<br><a href="{{.Link}}">{{.Link}}</a>{{end}}</p>
{{end}}{{if .More}}<p>and {{.More}} more</p>{{end}}
</body></html>`))

// html is what page makes of a message.
func html(e Envelope) (string, error) {
	type item struct{ Subject, Text, By, Since, Todo, Link string }
	m := e.Message
	in := struct {
		Heading string
		Many    bool
		Items   []item
		More    int
	}{heading(m), len(m.Items)+m.More > 1, nil, m.More}
	for _, i := range m.Items {
		x := item{Subject: visible.Line(i.Subject), Text: visible.Line(i.Text), Link: link(e.Console, i.Link)}
		if !i.Since.IsZero() {
			x.Since = i.Since.UTC().Format(time.DateTime + " UTC")
		}
		if m.Kind != alert.Over {
			x.By = visible.Line(i.By)
			x.Todo = visible.Line(i.Todo)
		}
		in.Items = append(in.Items, x)
	}
	var b strings.Builder
	err := page.Execute(&b, in)
	return b.String(), err
}
