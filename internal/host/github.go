package host

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/google/go-github/v89/github"
)

var (
	errReadOnly  = errors.New("the token may not write to it")
	errMoved     = errors.New("its branch has moved since it was read, or does not go together with its base")
	errNotMerged = errors.New("the host does not merge it: its own rules, or its checks, stand against it")
)

func requestNamed(number int) string { return fmt.Sprintf("request %d", number) }

// sorted are approvals by who gave them.
func sorted(last map[string]Approval) (out []Approval) {
	for _, by := range slices.Sorted(maps.Keys(last)) {
		out = append(out, last[by])
	}
	return out
}

// worst is what all checks come to.
func worst(all map[string]Checks) (out Checks) {
	for _, c := range all {
		switch {
		case c == Failed || out == Failed:
			out = Failed
		case c == Running || out == Running:
			out = Running
		default:
			out = Passed
		}
	}
	return out
}

// gitHub is a project by the API of GitHub, version 3.
type gitHub struct {
	Source
	c           *github.Client
	owner, name string
}

func newGitHub(s Source, c *http.Client, owner, name string) (*gitHub, error) {
	base := strings.TrimSuffix(s.URL, "/") + "/"
	conn, err := github.NewClient(github.WithHTTPClient(c), github.WithAuthToken(s.Token), github.WithURLs(&base, &base), github.WithUserAgent("vigila"))
	if err != nil {
		return nil, s.fail("the address", err)
	}
	return &gitHub{s, conn, owner, name}, nil
}

func (h *gitHub) Check(ctx context.Context) error {
	r, _, err := h.c.Repositories.Get(ctx, h.owner, h.name)
	if err == nil && !r.GetPermissions().GetPush() {
		err = errReadOnly
	}
	return h.fail("the repository", err)
}

func (h *gitHub) request(p *github.PullRequest) Request {
	out := Request{Number: p.GetNumber(), URL: p.GetHTMLURL(), Title: p.GetTitle(), Branch: p.GetHead().GetRef(), Base: p.GetBase().GetRef(), Commit: p.GetHead().GetSHA(), Author: p.GetUser().GetLogin(),
		Fork: p.GetHead().GetRepo().GetFullName() != p.GetBase().GetRepo().GetFullName(), Standing: Open}
	for _, l := range p.Labels {
		out.Labels = append(out.Labels, l.GetName())
	}
	switch {
	case p.GetMerged() || !p.GetMergedAt().IsZero():
		out.Standing, out.By = Merged, p.GetMergedBy().GetLogin()
	case p.GetState() == "closed":
		out.Standing = Closed
	}
	return out
}

func (h *gitHub) Ask(ctx context.Context, branch, base, title, text string) (Request, error) {
	all, _, err := h.c.PullRequests.List(ctx, h.owner, h.name, &github.PullRequestListOptions{State: "open", Head: h.owner + ":" + branch, Base: base})
	if err != nil {
		return Request{}, h.fail("the open requests", err)
	}
	for _, p := range all {
		if r := h.request(p); r.Branch == branch && r.Base == base && !r.Fork {
			return h.See(ctx, r.Number)
		}
	}
	p, _, err := h.c.PullRequests.Create(ctx, h.owner, h.name, &github.NewPullRequest{Title: &title, Head: &branch, Base: &base, Body: new(fit(text, maxText))})
	if err != nil {
		return Request{}, h.fail("a request for branch "+branch, err)
	}
	return h.request(p), nil
}

func (h *gitHub) See(ctx context.Context, number int) (Request, error) {
	p, _, err := h.c.PullRequests.Get(ctx, h.owner, h.name, number)
	if err != nil {
		return Request{}, h.fail(requestNamed(number), err)
	}
	out := h.request(p)
	if out.Standing != Open {
		return out, nil
	}
	last := map[string]Approval{}
	if err := pages(func(page int) (int, error) {
		reviews, r, err := h.c.PullRequests.ListReviews(ctx, h.owner, h.name, number, &github.ListOptions{Page: page, PerPage: pageSize})
		if err != nil {
			return 0, err
		}
		for _, x := range reviews { // the oldest first
			by := x.GetUser().GetLogin()
			switch x.GetState() {
			case "APPROVED":
				last[by] = Approval{by, x.GetSubmittedAt().Time, x.GetCommitID()}
			case "CHANGES_REQUESTED", "DISMISSED":
				delete(last, by)
			}
		}
		return r.NextPage, nil
	}); err != nil && !errors.Is(err, ErrMany) { // approvals are shown, and let nothing in
		return out, h.fail("the reviews of "+requestNamed(number), err)
	}
	out.Approvals = sorted(last)
	all := map[string]Checks{}
	if err := pages(func(page int) (int, error) {
		s, r, err := h.c.Repositories.GetCombinedStatus(ctx, h.owner, h.name, out.Commit, &github.ListOptions{Page: page, PerPage: 100})
		if err != nil {
			return 0, err
		}
		for _, x := range s.Statuses {
			all["status "+x.GetContext()] = map[string]Checks{"success": Passed, "pending": Running}[x.GetState()]
			if all["status "+x.GetContext()] == "" {
				all["status "+x.GetContext()] = Failed
			}
		}
		return r.NextPage, nil
	}); errors.Is(err, ErrMany) {
		all[unread] = Running
	} else if err != nil {
		return out, h.fail("the checks of "+requestNamed(number), err)
	}
	if err := pages(func(page int) (int, error) {
		runs, r, err := h.c.Checks.ListCheckRunsForRef(ctx, h.owner, h.name, out.Commit, &github.ListCheckRunsOptions{ListOptions: github.ListOptions{Page: page, PerPage: 100}})
		if err != nil {
			return 0, err
		}
		for _, x := range runs.CheckRuns {
			c := Failed
			switch {
			case x.GetStatus() != "completed":
				c = Running
			case slices.Contains([]string{"success", "neutral", "skipped"}, x.GetConclusion()):
				c = Passed
			}
			all["run "+x.GetName()] = worst(map[string]Checks{"": c, " ": all["run "+x.GetName()]}) // two may be called the same
		}
		return r.NextPage, nil
	}); errors.Is(err, ErrMany) {
		all[unread] = Running
	} else if err != nil {
		return out, h.fail("the checks of "+requestNamed(number), err)
	}
	out.Checks = worst(all)
	return out, nil
}

func (h *gitHub) Live(ctx context.Context) (out []Request, err error) {
	return out, h.fail("the open requests", pages(func(page int) (int, error) {
		all, r, err := h.c.PullRequests.List(ctx, h.owner, h.name, &github.PullRequestListOptions{State: "open", ListOptions: github.ListOptions{Page: page, PerPage: pageSize}})
		if err != nil {
			return 0, err
		}
		for _, p := range all {
			out = append(out, h.request(p))
		}
		return r.NextPage, nil
	}))
}

func (h *gitHub) Say(ctx context.Context, number int, mark, text string) (bool, error) {
	has := map[int64]string{}
	if err := pages(func(page int) (int, error) {
		all, r, err := h.c.Issues.ListComments(ctx, h.owner, h.name, number, &github.IssueListCommentsOptions{ListOptions: github.ListOptions{Page: page, PerPage: pageSize}})
		if err != nil {
			return 0, err
		}
		for _, x := range all {
			has[x.GetID()] = x.GetBody()
		}
		return r.NextPage, nil
	}); err != nil && !(errors.Is(err, ErrMany) && marked(has, mark)) {
		return false, h.fail("the comments of "+requestNamed(number), err)
	}
	wrote, err := say(has, mark, text,
		func(text string) error {
			_, _, err := h.c.Issues.CreateComment(ctx, h.owner, h.name, number, &github.IssueComment{Body: &text})
			return err
		},
		func(id int64, text string) error {
			_, _, err := h.c.Issues.EditComment(ctx, h.owner, h.name, id, &github.IssueComment{Body: &text})
			return err
		})
	return wrote, h.fail("a comment on "+requestNamed(number), err)
}

func (h *gitHub) Tell(ctx context.Context, commit string, s Status) error {
	st := github.RepoStatus{State: new(string(s.State)), Context: &s.Name, Description: new(fit(s.Text, maxStatus))}
	if s.URL != "" {
		st.TargetURL = &s.URL
	}
	_, _, err := h.c.Repositories.CreateStatus(ctx, h.owner, h.name, commit, st)
	return h.fail("a status of commit "+commit, err)
}

func (h *gitHub) Merge(ctx context.Context, number int, commit, title, text string) error {
	return h.fail("the merge of "+requestNamed(number), patient(ctx, func() (int, error) {
		r, answer, err := h.c.PullRequests.Merge(ctx, h.owner, h.name, number, text, &github.PullRequestOptions{CommitTitle: title, SHA: commit, MergeMethod: "merge"})
		if err == nil && !r.GetMerged() {
			err = errNotMerged
		}
		if answer == nil || answer.Response == nil {
			return 0, err
		}
		return answer.StatusCode, err
	}))
}

func (h *gitHub) Close(ctx context.Context, number int) error {
	_, _, err := h.c.PullRequests.Edit(ctx, h.owner, h.name, number, &github.PullRequest{State: new("closed")})
	return h.fail("the end of "+requestNamed(number), err)
}
