package host

import (
	"context"
	"errors"
	"net/http"

	"code.gitea.io/sdk/gitea"
)

// giteaHost is a project by the API of Gitea and Forgejo, version 1.
type giteaHost struct {
	Source
	http        *http.Client
	owner, name string
}

func newGitea(s Source, c *http.Client, owner, name string) (*giteaHost, error) {
	h := &giteaHost{s, c, owner, name}
	_, err := h.made(context.Background())
	return h, s.fail("the address", err)
}

// made makes a client for one call, since it holds the call's context. It asks nothing of the network.
func (h *giteaHost) made(ctx context.Context) (*gitea.Client, error) {
	return gitea.NewClient(h.URL, gitea.SetHTTPClient(h.http), gitea.SetToken(h.Token), gitea.SetContext(ctx), gitea.SetGiteaVersion(""), gitea.SetUserAgent("vigila"))
}

// conn is the client of a call; of the same source as before it is made as it was before.
func (h *giteaHost) conn(ctx context.Context) *gitea.Client {
	c, _ := h.made(ctx)
	return c
}

func (h *giteaHost) Check(ctx context.Context) error {
	r, _, err := h.conn(ctx).GetRepo(h.owner, h.name)
	if err == nil && (r.Permissions == nil || !r.Permissions.Push) {
		return h.fail("the repository", errReadOnly)
	}
	return h.fail("the repository", err)
}

func (h *giteaHost) Ask(ctx context.Context, branch, base, title, text string) (Request, error) {
	all, err := h.Live(ctx)
	if err != nil {
		return Request{}, err
	}
	for _, r := range all {
		if !r.Fork && r.Branch == branch && r.Base == base {
			return h.See(ctx, r.Number)
		}
	}
	p, _, err := h.conn(ctx).CreatePullRequest(h.owner, h.name, gitea.CreatePullRequestOption{Head: branch, Base: base, Title: title, Body: fit(text, maxText)})
	if err != nil {
		return Request{}, h.fail("a request for branch "+branch, err)
	}
	return h.request(p), nil
}

func (h *giteaHost) request(p *gitea.PullRequest) Request {
	out := Request{Number: int(p.Index), URL: p.HTMLURL, Title: p.Title, Standing: Open}
	if p.Poster != nil {
		out.Author = p.Poster.UserName
	}
	if p.Head != nil {
		out.Branch, out.Commit, out.Fork = p.Head.Ref, p.Head.Sha, p.Base != nil && p.Head.RepoID != p.Base.RepoID
	}
	if p.Base != nil {
		out.Base = p.Base.Ref
	}
	for _, l := range p.Labels {
		out.Labels = append(out.Labels, l.Name)
	}
	switch {
	case p.HasMerged:
		if out.Standing = Merged; p.MergedBy != nil {
			out.By = p.MergedBy.UserName
		}
	case p.State == gitea.StateClosed:
		out.Standing = Closed
	}
	return out
}

func (h *giteaHost) See(ctx context.Context, number int) (Request, error) {
	c := h.conn(ctx)
	p, _, err := c.GetPullRequest(h.owner, h.name, int64(number))
	if err != nil {
		return Request{}, h.fail(requestNamed(number), err)
	}
	out := h.request(p)
	if out.Standing != Open {
		return out, nil
	}
	last := map[string]Approval{}
	if err := pages(func(page int) (int, error) {
		reviews, r, err := c.ListPullReviews(h.owner, h.name, int64(number), gitea.ListPullReviewsOptions{ListOptions: gitea.ListOptions{Page: page, PageSize: pageSize}})
		for _, x := range reviews { // the oldest first
			if x.Reviewer == nil {
				continue
			}
			switch {
			case x.State == gitea.ReviewStateApproved && !x.Dismissed:
				last[x.Reviewer.UserName] = Approval{x.Reviewer.UserName, x.Submitted, x.CommitID}
			case x.State == gitea.ReviewStateRequestChanges, x.Dismissed:
				delete(last, x.Reviewer.UserName)
			}
		}
		return after(page, r, len(reviews)), err
	}); err != nil && !errors.Is(err, ErrMany) { // approvals are shown, and let nothing in
		return out, h.fail("the reviews of "+requestNamed(number), err)
	}
	out.Approvals = sorted(last)
	all := map[string]Checks{}
	newest := map[string]*gitea.Status{} // the combined one is of its first page alone
	if err := pages(func(page int) (int, error) {
		statuses, r, err := c.ListStatuses(h.owner, h.name, out.Commit, gitea.ListStatusesOption{ListOptions: gitea.ListOptions{Page: page, PageSize: pageSize}})
		for _, x := range statuses {
			if was := newest[x.Context]; was == nil || was.ID < x.ID {
				newest[x.Context] = x
			}
		}
		return after(page, r, len(statuses)), err
	}); errors.Is(err, ErrMany) {
		all[unread] = Running
	} else if err != nil {
		return out, h.fail("the checks of "+requestNamed(number), err)
	}
	for _, x := range newest {
		all[x.Context] = map[gitea.StatusState]Checks{gitea.StatusSuccess: Passed, gitea.StatusWarning: Passed, gitea.StatusPending: Running}[x.State]
		if all[x.Context] == "" {
			all[x.Context] = Failed
		}
	}
	out.Checks = worst(all)
	return out, nil
}

func (h *giteaHost) Live(ctx context.Context) (out []Request, err error) {
	return out, h.fail("the open requests", pages(func(page int) (int, error) {
		all, r, err := h.conn(ctx).ListRepoPullRequests(h.owner, h.name, gitea.ListPullRequestsOptions{State: gitea.StateOpen, ListOptions: gitea.ListOptions{Page: page, PageSize: pageSize}})
		for _, p := range all {
			out = append(out, h.request(p))
		}
		return after(page, r, len(all)), err
	}))
}

// after is the page that follows one with so many: as the host says it, and of one that says nothing as long as pages are full. How full a page is at
// most is the host's own affair.
func after(page int, r *gitea.Response, got int) int {
	switch {
	case r == nil || got == 0:
		return 0
	case r.Response != nil && r.Header.Get("Link") != "":
		return r.NextPage
	case r.Response != nil && r.Header.Get("X-Total-Count") != "", got < pageSize:
		return 0
	}
	return page + 1
}

func (h *giteaHost) Say(ctx context.Context, number int, mark, text string) (bool, error) {
	c := h.conn(ctx)
	has := map[int64]string{}
	if err := pages(func(page int) (int, error) {
		all, r, err := c.ListIssueComments(h.owner, h.name, int64(number), gitea.ListIssueCommentOptions{ListOptions: gitea.ListOptions{Page: page, PageSize: pageSize}})
		fresh := false
		for _, x := range all {
			_, known := has[x.ID]
			fresh = fresh || !known
			has[x.ID] = x.Body
		}
		if !fresh { // some hosts answer all of them on every page
			return 0, err
		}
		return after(page, r, len(all)), err
	}); err != nil && !(errors.Is(err, ErrMany) && marked(has, mark)) {
		return false, h.fail("the comments of "+requestNamed(number), err)
	}
	wrote, err := say(has, mark, text,
		func(text string) error {
			_, _, err := c.CreateIssueComment(h.owner, h.name, int64(number), gitea.CreateIssueCommentOption{Body: text})
			return err
		},
		func(id int64, text string) error {
			_, _, err := c.EditIssueComment(h.owner, h.name, id, gitea.EditIssueCommentOption{Body: text})
			return err
		})
	return wrote, h.fail("a comment on "+requestNamed(number), err)
}

func (h *giteaHost) Tell(ctx context.Context, commit string, s Status) error {
	_, _, err := h.conn(ctx).CreateStatus(h.owner, h.name, commit, gitea.CreateStatusOption{State: gitea.StatusState(s.State), Context: s.Name, Description: fit(s.Text, maxStatus), TargetURL: s.URL})
	return h.fail("a status of commit "+commit, err)
}

func (h *giteaHost) Merge(ctx context.Context, number int, commit, title, text string) error {
	return h.fail("the merge of "+requestNamed(number), patient(ctx, func() (int, error) {
		done, r, err := h.conn(ctx).MergePullRequest(h.owner, h.name, int64(number), gitea.MergePullRequestOption{Style: gitea.MergeStyleMerge, Title: title, Message: text, HeadCommitId: commit})
		switch {
		case err != nil || done || r == nil:
			return 0, err
		case r.StatusCode == http.StatusMethodNotAllowed:
			return r.StatusCode, nil
		case r.StatusCode == http.StatusConflict:
			return 0, errMoved
		}
		return 0, errNotMerged
	}))
}

func (h *giteaHost) Close(ctx context.Context, number int) error {
	closed := gitea.StateClosed
	_, _, err := h.conn(ctx).EditPullRequest(h.owner, h.name, int64(number), gitea.EditPullRequestOption{State: &closed})
	return h.fail("the end of "+requestNamed(number), err)
}
