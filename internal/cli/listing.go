package cli

import (
	"context"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

// listing is a command that lists something page by page.
type listing[T any] struct {
	command *cobra.Command // its names and texts
	none    string         // what is said when there is nothing that matches a search
	first   string         // and when there is nothing at all: how to come by the first; none when empty
	// ask reads a page: its answer as a document, what is on it, and how many there are on all of them.
	ask   func(context.Context, *client.Conn, *pageFlags) (doc any, items []T, total int, err error)
	print func(*printer, []T)
	// narrowed tells that a flag of its own leaves some out, so that nothing is not nothing at all; may be nil.
	narrowed func() bool
}

// list makes a command of a listing.
func list[T any](a *app, l listing[T]) *cobra.Command {
	f, c := &pageFlags{}, l.command
	c.Args = noArgs
	c.RunE = func(c *cobra.Command, _ []string) error {
		if err := pageAsked(f.page, f.limit); err != nil {
			return err
		}
		conn, err := a.dial()
		if err != nil {
			return err
		}
		doc, items, total, err := l.ask(c.Context(), conn, f)
		if err != nil {
			return err
		}
		if err := onPage(f.page, f.limit, total); err != nil {
			return err
		}
		if done, err := a.document(c.OutOrStdout(), doc); done {
			return err
		}
		p := a.printer(c.OutOrStdout())
		if len(items) == 0 {
			p.line("%s", pick(f.search != "" || l.first == "" || l.narrowed != nil && l.narrowed(), l.none, l.first))
			return nil
		}
		l.print(p, items)
		if foot := pageOf(f.page, f.limit, total); foot != "" {
			p.line("\n%d of %d%s", len(items), total, foot)
		}
		return nil
	}
	f.add(c)
	return a.reading(c)
}
