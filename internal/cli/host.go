package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) repoHost() *cobra.Command {
	var in client.SetCodeHost
	var token, ca string
	var forget bool
	c := &cobra.Command{
		Use: "host NAME", Short: "Show or set the code host of a repository, where its proposals are reviewed",
		Long: `Show or set the code host of a repository: where requests to merge are opened, reviewed and merged. With one, each proposal gets a
request there; what people say of it there counts, vigila propose merge merges it by the host's own rules, and what it would do to the
clusters is kept up to date as one comment. --comments does so for people's own requests that touch wards as well; --statuses tells of each commit
how the wards do with it. The token is stored encrypted, never shown again, and stays with the address that it was given for.`,
		Example: `  vigila repo host moorings
  vigila repo host moorings --api gitea --at https://code.brindle.example --project harbour-ops/moorings --token-file token.txt --comments
  vigila repo host moorings --forget`,
		Args: exactly(1, "the name of a repository"), ValidArgsFunction: a.first(repoNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			p := a.printer(c.OutOrStdout())
			set := in != (client.SetCodeHost{}) || token != "" || ca != ""
			switch {
			case forget && set:
				return usage("vigila repo host takes --forget alone")
			case forget:
				r, err := conn.RemoveCodeHostWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
				p.line("%s has no code host any more; requests stay open there.", args[0])
				return nil
			case set && (in.Api == "" || in.Url == "" || in.Project == ""):
				return usage("vigila repo host needs --api, --at and --project to set a code host")
			case set:
				if err := readFiles(c, map[string]*string{token: &in.Token, ca: &in.Ca}); err != nil {
					return err
				}
				r, err := conn.SetCodeHostWithResponse(c.Context(), args[0], in)
				if err := conn.Check(r, err); err != nil {
					return err
				}
				if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
					return err
				}
				p.codeHost(r.JSON200)
				return nil
			}
			r, err := conn.GetCodeHostWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p.codeHost(r.JSON200)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.Api, "api", "", "which interface it speaks: gitea, github or gitlab")
	f.StringVar(&in.Url, "at", "", "address of the host, or of its API where that has one of its own")
	f.StringVar(&in.Project, "project", "", "OWNER/NAME there")
	f.StringVar(&token, "token-file", "", "file with a token that may write to it; - reads standard input")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the host may be signed with, in place of the system's")
	f.BoolVar(&in.Comments, "comments", false, "comment on people's own requests as well, where they touch wards")
	f.BoolVar(&in.Statuses, "statuses", false, "tell of each commit how the wards do with it")
	f.StringVar(&in.Console, "console", "", "where people reach this console, for links")
	f.BoolVar(&forget, "forget", false, "forget the code host; requests stay open there")
	return a.reading(c)
}

// codeHost prints how it is with one.
func (p *printer) codeHost(h *client.CodeHost) {
	p.line("%s  %s", p.paint("bold", h.Repo), p.paint("soft", fmt.Sprintf("is reviewed at %s, project %s, by the interface of %s", h.Url, h.Project, h.Api)))
	switch {
	case h.Problem != "":
		p.line("%s", p.paint("failing", "It can't be read: "+visible.Line(h.Problem)))
	case h.Looked.IsZero():
		p.line("It has not been looked at yet.")
	default:
		p.line("%s there; looked %s", counted(h.Open, "request is open", "requests are open"), ago(h.Looked))
	}
	p.line("%s", p.paint("soft", fmt.Sprintf("Effects are told of %s; statuses of commits are %s", pick(h.Comments, "every request that touches wards", "Vigila's own proposals"), pick(h.Statuses, "told", "not told"))))
}
