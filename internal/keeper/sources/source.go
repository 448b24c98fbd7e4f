package sources

import (
	"context"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// source is where a repository is read from.
type source interface {
	refresh(ctx context.Context) error
	names(ctx context.Context) ([]string, error) // of branches, or of charts
	change(r record.Repo)
	close()
	remove() error
}

func open(ctx context.Context, h *House, r record.Repo) (source, error) {
	if r.Charts {
		return chartSource{charts.Open(h.Dir, OfCharts(r))}, nil
	}
	m, err := repo.Open(ctx, h.Dir, OfGit(r))
	if err != nil {
		return nil, err
	}
	m.Link(h.At)
	return gitSource{m}, nil
}

type gitSource struct{ *repo.Mirror }

func (s gitSource) refresh(ctx context.Context) error           { return s.Fetch(ctx) }
func (s gitSource) names(ctx context.Context) ([]string, error) { return s.Branches(ctx) }
func (s gitSource) change(r record.Repo)                        { s.SetSource(OfGit(r)) }
func (s gitSource) close()                                      { s.Close() }
func (s gitSource) remove() error                               { return s.Remove() }

type chartSource struct{ *charts.Shelf }

func (s chartSource) refresh(ctx context.Context) error       { return s.Refresh(ctx) }
func (s chartSource) names(context.Context) ([]string, error) { return s.Names(), nil }
func (s chartSource) change(r record.Repo)                    { s.SetSource(OfCharts(r)) }
func (s chartSource) close()                                  {}
func (s chartSource) remove() error                           { return s.Remove() }

// OfGit is a repository's record as package repo wants it.
func OfGit(r record.Repo) repo.Source {
	return repo.Source{Name: r.Name, URL: r.URL, User: r.User, Password: r.Password, Bearer: r.Bearer, CA: r.CA, Key: r.Key, Passphrase: r.Passphrase, SignKey: r.SignKey,
		KnownHosts: r.KnownHosts, Signers: r.Signers, Submodules: r.Submodules, LargeFiles: r.LargeFiles}
}

// OfCharts is a repository's record as package charts wants it.
func OfCharts(r record.Repo) charts.Source {
	return charts.Source{Name: r.Name, URL: r.URL, User: r.User, Password: r.Password, Bearer: r.Bearer, CA: r.CA}
}
