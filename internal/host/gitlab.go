package host

import (
	"context"
	"errors"
	"net/http"

	gitlab "gitlab.com/gitlab-org/api/client-go"
)

// gitLab is a project by the API of GitLab, version 4.
type gitLab struct {
	Source
	c *gitlab.Client
}

func newGitLab(s Source, c *http.Client) (*gitLab, error) {
	conn, err := gitlab.NewClient(s.Token, gitlab.WithBaseURL(s.URL), gitlab.WithHTTPClient(c), gitlab.WithoutRetries(), gitlab.WithUserAgent("vigila"))
	if err != nil {
		return nil, s.fail("the address", err)
	}
	return &gitLab{s, conn}, nil
}

// developer is the least role that may push.
const developer = gitlab.DeveloperPermissions

func (h *gitLab) Check(ctx context.Context) error {
	p, _, err := h.c.Projects.GetProject(h.Project, nil, gitlab.WithContext(ctx))
	if err == nil && p.Permissions != nil {
		may := p.Permissions.ProjectAccess != nil && p.Permissions.ProjectAccess.AccessLevel >= developer || p.Permissions.GroupAccess != nil && p.Permissions.GroupAccess.AccessLevel >= developer
		if !may {
			err = errReadOnly
		}
	}
	return h.fail("the repository", err)
}

func (h *gitLab) request(p *gitlab.BasicMergeRequest) Request {
	out := Request{Number: int(p.IID), URL: p.WebURL, Title: p.Title, Branch: p.SourceBranch, Base: p.TargetBranch, Commit: p.SHA, Fork: p.SourceProjectID != p.TargetProjectID, Labels: p.Labels, Standing: Open}
	if p.Author != nil {
		out.Author = p.Author.Username
	}
	switch p.State {
	case "merged":
		if out.Standing = Merged; p.MergeUser != nil {
			out.By = p.MergeUser.Username
		}
	case "closed": // "locked" is one that is just being merged
		out.Standing = Closed
	}
	return out
}

func (h *gitLab) Ask(ctx context.Context, branch, base, title, text string) (Request, error) {
	all, _, err := h.c.MergeRequests.ListProjectMergeRequests(h.Project, &gitlab.ListProjectMergeRequestsOptions{State: new("opened"), SourceBranch: &branch, TargetBranch: &base}, gitlab.WithContext(ctx))
	if err != nil {
		return Request{}, h.fail("the open requests", err)
	}
	for _, p := range all {
		if r := h.request(p); r.Branch == branch && r.Base == base && !r.Fork {
			return h.See(ctx, r.Number)
		}
	}
	p, _, err := h.c.MergeRequests.CreateMergeRequest(h.Project, &gitlab.CreateMergeRequestOptions{Title: &title, Description: new(fit(text, maxText)), SourceBranch: &branch, TargetBranch: &base}, gitlab.WithContext(ctx))
	if err != nil {
		return Request{}, h.fail("a request for branch "+branch, err)
	}
	return h.request(&p.BasicMergeRequest), nil
}

func (h *gitLab) See(ctx context.Context, number int) (Request, error) {
	p, _, err := h.c.MergeRequests.GetMergeRequest(h.Project, int64(number), nil, gitlab.WithContext(ctx))
	if err != nil {
		return Request{}, h.fail(requestNamed(number), err)
	}
	out := h.request(&p.BasicMergeRequest)
	if out.Standing != Open {
		return out, nil
	}
	if p.HeadPipeline != nil {
		switch p.HeadPipeline.Status {
		case "success", "skipped":
			out.Checks = Passed
		case "failed", "canceled":
			out.Checks = Failed
		default:
			out.Checks = Running
		}
	}
	a, _, err := h.c.MergeRequestApprovals.GetConfiguration(h.Project, int64(number), gitlab.WithContext(ctx))
	if err != nil {
		return out, h.fail("the approvals of "+requestNamed(number), err)
	}
	last := map[string]Approval{}
	for _, x := range a.ApprovedBy {
		if x.User != nil {
			last[x.User.Username] = Approval{By: x.User.Username}
		}
	}
	out.Approvals = sorted(last)
	return out, nil
}

func (h *gitLab) Live(ctx context.Context) (out []Request, err error) {
	return out, h.fail("the open requests", pages(func(page int) (int, error) {
		all, r, err := h.c.MergeRequests.ListProjectMergeRequests(h.Project, &gitlab.ListProjectMergeRequestsOptions{State: new("opened"), ListOptions: gitlab.ListOptions{Page: int64(page), PerPage: pageSize}}, gitlab.WithContext(ctx))
		if err != nil {
			return 0, err
		}
		for _, p := range all {
			out = append(out, h.request(p))
		}
		return int(r.NextPage), nil
	}))
}

func (h *gitLab) Say(ctx context.Context, number int, mark, text string) (bool, error) {
	has := map[int64]string{}
	if err := pages(func(page int) (int, error) {
		all, r, err := h.c.Notes.ListMergeRequestNotes(h.Project, int64(number), &gitlab.ListMergeRequestNotesOptions{ListOptions: gitlab.ListOptions{Page: int64(page), PerPage: pageSize}}, gitlab.WithContext(ctx))
		if err != nil {
			return 0, err
		}
		for _, x := range all {
			has[x.ID] = x.Body
		}
		return int(r.NextPage), nil
	}); err != nil && !(errors.Is(err, ErrMany) && marked(has, mark)) {
		return false, h.fail("the comments of "+requestNamed(number), err)
	}
	wrote, err := say(has, mark, text,
		func(text string) error {
			_, _, err := h.c.Notes.CreateMergeRequestNote(h.Project, int64(number), &gitlab.CreateMergeRequestNoteOptions{Body: &text}, gitlab.WithContext(ctx))
			return err
		},
		func(id int64, text string) error {
			_, _, err := h.c.Notes.UpdateMergeRequestNote(h.Project, int64(number), id, &gitlab.UpdateMergeRequestNoteOptions{Body: &text}, gitlab.WithContext(ctx))
			return err
		})
	return wrote, h.fail("a comment on "+requestNamed(number), err)
}

func (h *gitLab) Tell(ctx context.Context, commit string, s Status) error {
	o := &gitlab.SetCommitStatusOptions{State: map[State]gitlab.BuildStateValue{Pending: gitlab.Pending, Success: gitlab.Success, Failure: gitlab.Failed}[s.State], Name: &s.Name, Description: new(fit(s.Text, maxStatus))}
	if s.URL != "" {
		o.TargetURL = &s.URL
	}
	_, _, err := h.c.Commits.SetCommitStatus(h.Project, commit, o, gitlab.WithContext(ctx))
	return h.fail("a status of commit "+commit, err)
}

func (h *gitLab) Merge(ctx context.Context, number int, commit, title, text string) error {
	return h.fail("the merge of "+requestNamed(number), patient(ctx, func() (int, error) {
		p, r, err := h.c.MergeRequests.AcceptMergeRequest(h.Project, int64(number), &gitlab.AcceptMergeRequestOptions{SHA: &commit, MergeCommitMessage: new(title + "\n\n" + text)}, gitlab.WithContext(ctx))
		if err == nil && p.State != "merged" {
			err = errNotMerged
		}
		if r == nil || r.Response == nil {
			return 0, err
		}
		return r.StatusCode, err
	}))
}

func (h *gitLab) Close(ctx context.Context, number int) error {
	_, _, err := h.c.MergeRequests.UpdateMergeRequest(h.Project, int64(number), &gitlab.UpdateMergeRequestOptions{StateEvent: new("close")}, gitlab.WithContext(ctx))
	return h.fail("the end of "+requestNamed(number), err)
}
