package codehost

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// byAPI is who does what the API is asked for.
const byAPI = "vigila"

type object = map[string]any

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v)
}

// wrong answers with what went wrong.
func wrong(w http.ResponseWriter, err error) {
	code := http.StatusUnprocessableEntity
	switch {
	case errors.Is(err, errNone):
		code = http.StatusNotFound
	case errors.Is(err, errMoved), errors.Is(err, errThere):
		code = http.StatusConflict
	case errors.Is(err, errNotNow):
		code = http.StatusMethodNotAllowed
	}
	answer(w, code, object{"message": err.Error()})
}

// signed lets calls through that bear the token, as either API sends it.
func (s *Server) signed(do func(w http.ResponseWriter, r *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+s.token && r.Header.Get("Private-Token") != s.token {
			answer(w, http.StatusUnauthorized, object{"message": "401 Unauthorized"})
			return
		}
		do(w, r)
	}
}

// body reads what a call sends, as JSON or as a form.
func body(r *http.Request) func(key string) string {
	in := object{}
	if strings.Contains(r.Header.Get("Content-Type"), "json") {
		_ = json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20)).Decode(&in)
	}
	return func(key string) string {
		if v, ok := in[key]; ok {
			return fmt.Sprint(v)
		}
		return r.FormValue(key)
	}
}

func number(r *http.Request) int {
	n, _ := strconv.Atoi(r.PathValue("n"))
	return n
}

// github answers the calls of the API of GitHub that are used. Source: https://docs.github.com/en/rest
func (s *Server) github(mux *http.ServeMux) {
	at := func(pattern string, do func(w http.ResponseWriter, r *http.Request, project string)) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" /repos/{owner}/{name}"+path, s.signed(func(w http.ResponseWriter, r *http.Request) {
			project := r.PathValue("owner") + "/" + r.PathValue("name")
			if s.bare(project) == "" {
				wrong(w, errNone)
				return
			}
			do(w, r, project)
		}))
	}
	at("GET ", func(w http.ResponseWriter, _ *http.Request, project string) {
		answer(w, 200, object{"full_name": project, "permissions": object{"push": true}})
	})
	at("GET /pulls", func(w http.ResponseWriter, r *http.Request, project string) {
		_, branch, _ := strings.Cut(r.FormValue("head"), ":")
		out := []object{}
		for _, x := range s.list(project, r.FormValue("state"), branch, r.FormValue("base")) {
			out = append(out, s.pull(x))
		}
		answer(w, 200, out)
	})
	at("POST /pulls", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		x, err := s.ask(project, in("head"), in("base"), in("title"), in("body"), byAPI)
		if err != nil {
			answer(w, http.StatusUnprocessableEntity, object{"message": err.Error()})
			return
		}
		answer(w, 201, s.pull(*x))
	})
	at("GET /pulls/{n}", func(w http.ResponseWriter, r *http.Request, project string) {
		x, err := s.one(project, number(r))
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 200, s.pull(x))
	})
	at("PATCH /pulls/{n}", func(w http.ResponseWriter, r *http.Request, project string) {
		if body(r)("state") == "closed" {
			if err := s.end(project, number(r), byAPI); err != nil {
				wrong(w, err)
				return
			}
		}
		x, err := s.one(project, number(r))
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 200, s.pull(x))
	})
	at("PUT /pulls/{n}/merge", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		id, err := s.merge(project, number(r), in("sha"), in("commit_title"), in("commit_message"), byAPI)
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 200, object{"sha": id, "merged": true})
	})
	at("GET /pulls/{n}/reviews", func(w http.ResponseWriter, r *http.Request, project string) {
		x, err := s.one(project, number(r))
		if err != nil {
			wrong(w, err)
			return
		}
		out := []object{}
		for _, a := range x.Approved {
			out = append(out, object{"user": object{"login": a.By}, "state": "APPROVED", "commit_id": a.Commit, "submitted_at": a.At.Format(time.RFC3339)})
		}
		answer(w, 200, out)
	})
	s.githubTalk(at)
}

// githubTalk answers what is said of requests and commits.
func (s *Server) githubTalk(at func(string, func(http.ResponseWriter, *http.Request, string))) {
	say := func(c *comment, err error, w http.ResponseWriter, code int) {
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, code, object{"id": c.ID, "body": c.Text})
	}
	at("GET /issues/{n}/comments", func(w http.ResponseWriter, r *http.Request, project string) {
		out := []object{}
		for _, c := range s.comments(project, number(r)) {
			out = append(out, object{"id": c.ID, "body": c.Text, "user": object{"login": c.By}})
		}
		answer(w, 200, out)
	})
	at("POST /issues/{n}/comments", func(w http.ResponseWriter, r *http.Request, project string) {
		c, err := s.say(project, number(r), 0, body(r)("body"), byAPI)
		say(c, err, w, 201)
	})
	at("PATCH /issues/comments/{n}", func(w http.ResponseWriter, r *http.Request, project string) {
		c, err := s.say(project, 0, number(r), body(r)("body"), byAPI)
		say(c, err, w, 200)
	})
	at("POST /statuses/{sha}", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		if err := s.tell(status{project, r.PathValue("sha"), in("context"), in("state"), in("description"), in("target_url")}); err != nil {
			wrong(w, err)
			return
		}
		answer(w, 201, object{"state": in("state")})
	})
	at("GET /commits/{sha}/status", func(w http.ResponseWriter, r *http.Request, project string) {
		out := []object{}
		for _, x := range s.told(project, r.PathValue("sha")) {
			out = append(out, object{"context": x.Name, "state": x.State, "description": x.Text})
		}
		answer(w, 200, object{"statuses": out})
	})
	at("GET /commits/{sha}/check-runs", func(w http.ResponseWriter, _ *http.Request, _ string) {
		answer(w, 200, object{"total_count": 0, "check_runs": []object{}})
	})
}

func (s *Server) pull(r request) object {
	out := object{"number": r.Number, "title": r.Title, "body": r.Text, "html_url": r.page(s), "state": map[bool]string{true: "open", false: "closed"}[r.State == "open"], "merged": r.State == "merged", "user": object{"login": r.Author},
		"head": object{"ref": r.Branch, "sha": r.Head, "repo": object{"full_name": r.Project}}, "base": object{"ref": r.Base, "repo": object{"full_name": r.Project}}}
	labels := []object{}
	for _, l := range r.Labels {
		labels = append(labels, object{"name": l})
	}
	out["labels"] = labels
	if r.State == "merged" {
		out["merged_by"] = object{"login": r.By}
	}
	return out
}

// gitlab answers the calls of the API of GitLab that are used. Source: https://docs.gitlab.com/api/rest/
func (s *Server) gitlab(mux *http.ServeMux) {
	at := func(pattern string, do func(w http.ResponseWriter, r *http.Request, project string)) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" /api/v4/projects/{id}"+path, s.signed(func(w http.ResponseWriter, r *http.Request) {
			project, err := url.PathUnescape(r.PathValue("id"))
			if err != nil || s.bare(project) == "" {
				wrong(w, errNone)
				return
			}
			do(w, r, project)
		}))
	}
	one := func(w http.ResponseWriter, r *http.Request, project string) {
		x, err := s.one(project, number(r))
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 200, s.mergeRequest(x))
	}
	at("GET ", func(w http.ResponseWriter, _ *http.Request, project string) {
		answer(w, 200, object{"id": 1, "path_with_namespace": project, "permissions": object{"project_access": object{"access_level": 40}}})
	})
	at("GET /merge_requests", func(w http.ResponseWriter, r *http.Request, project string) {
		out := []object{}
		for _, x := range s.list(project, map[string]string{"opened": "open"}[r.FormValue("state")], r.FormValue("source_branch"), r.FormValue("target_branch")) {
			out = append(out, s.mergeRequest(x))
		}
		answer(w, 200, out)
	})
	at("POST /merge_requests", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		x, err := s.ask(project, in("source_branch"), in("target_branch"), in("title"), in("description"), byAPI)
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 201, s.mergeRequest(*x))
	})
	at("GET /merge_requests/{n}", one)
	at("PUT /merge_requests/{n}", func(w http.ResponseWriter, r *http.Request, project string) {
		if body(r)("state_event") == "close" {
			if err := s.end(project, number(r), byAPI); err != nil {
				wrong(w, err)
				return
			}
		}
		one(w, r, project)
	})
	at("PUT /merge_requests/{n}/merge", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		title, text, _ := strings.Cut(in("merge_commit_message"), "\n\n")
		if _, err := s.merge(project, number(r), in("sha"), title, text, byAPI); err != nil {
			wrong(w, err)
			return
		}
		one(w, r, project)
	})
	at("GET /merge_requests/{n}/approvals", func(w http.ResponseWriter, r *http.Request, project string) {
		x, err := s.one(project, number(r))
		if err != nil {
			wrong(w, err)
			return
		}
		by := []object{}
		for _, a := range x.Approved {
			if a.Commit == x.Head { // a push takes approvals away
				by = append(by, object{"user": object{"username": a.By}})
			}
		}
		answer(w, 200, object{"approved": len(by) > 0, "approved_by": by})
	})
	at("GET /merge_requests/{n}/notes", func(w http.ResponseWriter, r *http.Request, project string) {
		out := []object{}
		for _, c := range s.comments(project, number(r)) {
			out = append(out, object{"id": c.ID, "body": c.Text, "author": object{"username": c.By}})
		}
		answer(w, 200, out)
	})
	at("POST /merge_requests/{n}/notes", func(w http.ResponseWriter, r *http.Request, project string) {
		c, err := s.say(project, number(r), 0, body(r)("body"), byAPI)
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 201, object{"id": c.ID, "body": c.Text})
	})
	at("PUT /merge_requests/{n}/notes/{id2}", func(w http.ResponseWriter, r *http.Request, project string) {
		id, _ := strconv.Atoi(r.PathValue("id2"))
		c, err := s.say(project, 0, id, body(r)("body"), byAPI)
		if err != nil {
			wrong(w, err)
			return
		}
		answer(w, 200, object{"id": c.ID, "body": c.Text})
	})
	at("POST /statuses/{sha}", func(w http.ResponseWriter, r *http.Request, project string) {
		in := body(r)
		state := in("state")
		if state == "failed" {
			state = "failure"
		}
		if err := s.tell(status{project, r.PathValue("sha"), in("name"), state, in("description"), in("target_url")}); err != nil {
			wrong(w, err)
			return
		}
		answer(w, 201, object{"status": in("state")})
	})
}

func (s *Server) mergeRequest(r request) object {
	out := object{"iid": r.Number, "title": r.Title, "description": r.Text, "web_url": r.page(s), "state": map[string]string{"open": "opened"}[r.State], "author": object{"username": r.Author},
		"source_branch": r.Branch, "target_branch": r.Base, "sha": r.Head, "source_project_id": 1, "target_project_id": 1, "labels": append([]string{}, r.Labels...)}
	if r.State != "open" {
		out["state"] = r.State
	}
	if r.State == "merged" {
		out["merge_user"] = object{"username": r.By}
	}
	return out
}
