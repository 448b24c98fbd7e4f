package codehost

import (
	"bytes"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
)

// page is one request, as people see it; or the list of them.
var page = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>{{.Title}}</title>
<style>
body { font: 15px/1.45 system-ui, sans-serif; max-width: 62rem; margin: 1.5rem auto; padding: 0 1rem; color: #222; background: #fff }
pre, code { font: 13px/1.4 ui-monospace, monospace; background: #f3f3f1 } pre { padding: .6rem .8rem; overflow: auto }
code { padding: .1rem .25rem; overflow-wrap: anywhere } table { border-collapse: collapse } td, th { border: 1px solid #ccc; padding: .2rem .5rem; text-align: left }
.box { border: 1px solid #ccc; border-radius: 6px; padding: .4rem 1rem; margin: .8rem 0 } .soft { color: #555 } form { display: inline } button { font: inherit; padding: .3rem .8rem }
ins { background: #e2f3e2; text-decoration: none; display: block } del { background: #f8e3dd; text-decoration: none; display: block }
</style>
<p class="soft">A code host of the lab · <a href="/requests/{{.Project}}">{{.Project}}</a></p>
<h1>{{.Title}}</h1>
{{with .Request}}
<p><strong>{{.State}}</strong>{{if .By}} by {{.By}}{{end}} <span class="soft">· {{.Author}} wants to merge <code>{{.Branch}}</code> into <code>{{.Base}}</code></span></p>
{{range .Labels}}<code>{{.}}</code> {{end}}{{range .Approved}}<p>✓ approved by {{.By}}</p>{{end}}
{{range $.Statuses}}<p class="soft">{{.Name}}: <strong>{{.State}}</strong> {{.Text}}</p>{{end}}
{{if eq .State "open"}}<p>{{range $.Buttons}}<form method="post"><input type="hidden" name="do" value="{{.}}"><button>{{.}}</button></form> {{end}}</p>{{end}}
{{end}}
{{range .Texts}}<div class="box">{{if .By}}<p class="soft">{{.By}}</p>{{end}}{{.HTML}}</div>{{end}}
{{if .Request}}<h2>Files</h2><pre>{{range .Patch}}{{.}}{{end}}</pre>{{end}}
{{range .List}}<p><a href="/requests/{{.Project}}/{{.Number}}">{{.Number}} {{.Title}}</a> <span class="soft">{{.State}}</span></p>{{end}}
</html>`))

type said struct {
	By   string
	HTML template.HTML
}

type shown struct {
	Title, Project string
	Request        *request
	Statuses       []status
	Buttons        []string
	Texts          []said
	Patch          []template.HTML
	List           []request
}

var markdown = goldmark.New(goldmark.WithExtensions(extension.GFM))

func rendered(text string) template.HTML {
	var b bytes.Buffer
	if err := markdown.Convert([]byte(text), &b); err != nil {
		return template.HTML(template.HTMLEscapeString(text))
	}
	return template.HTML(b.String())
}

// whoClicks presses the buttons of the pages.
const whoClicks = "reviewer"

func (s *Server) pages(mux *http.ServeMux) {
	mux.HandleFunc("GET /requests/{owner}/{name}", func(w http.ResponseWriter, r *http.Request) {
		project := r.PathValue("owner") + "/" + r.PathValue("name")
		_ = page.Execute(w, shown{Title: "Requests", Project: project, List: s.list(project, "", "", "")})
	})
	mux.HandleFunc("GET /requests/{owner}/{name}/{n}", func(w http.ResponseWriter, r *http.Request) {
		project := r.PathValue("owner") + "/" + r.PathValue("name")
		x, err := s.one(project, number(r))
		if err != nil {
			http.Error(w, err.Error(), http.StatusNotFound)
			return
		}
		v := shown{Title: fmt.Sprintf("%d %s", x.Number, x.Title), Project: project, Request: &x, Statuses: s.told(project, x.Head), Buttons: []string{"approve", "merge", "close"}, Texts: []said{{x.Author, rendered(x.Text)}}}
		for _, c := range s.comments(project, x.Number) {
			v.Texts = append(v.Texts, said{c.By, rendered(c.Text)})
		}
		patch, _ := s.git(project, "", "diff", x.Fork+"..."+x.Head)
		for _, row := range strings.Split(patch, "\n") {
			tag := map[byte]string{'+': "ins", '-': "del"}[(row + " ")[0]]
			text := template.HTMLEscapeString(row)
			if tag == "" {
				v.Patch = append(v.Patch, template.HTML(text+"\n"))
				continue
			}
			v.Patch = append(v.Patch, template.HTML("<"+tag+">"+text+"</"+tag+">"))
		}
		_ = page.Execute(w, v)
	})
	mux.HandleFunc("POST /requests/{owner}/{name}/{n}", func(w http.ResponseWriter, r *http.Request) {
		project := r.PathValue("owner") + "/" + r.PathValue("name")
		var err error
		switch r.FormValue("do") {
		case "approve":
			err = s.approveIt(project, number(r), whoClicks)
		case "merge":
			_, err = s.merge(project, number(r), "", "", "Merged by "+whoClicks+".", whoClicks)
		case "close":
			err = s.end(project, number(r), whoClicks)
		case "label":
			err = s.label(project, number(r), r.FormValue("label"))
		case "ask": // in place of a form for a new request
			_, err = s.ask(project, r.FormValue("branch"), "main", r.FormValue("title"), "", whoClicks)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusConflict)
			return
		}
		http.Redirect(w, r, r.URL.Path, http.StatusSeeOther)
	})
}
