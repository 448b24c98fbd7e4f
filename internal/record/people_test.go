package record

import (
	"database/sql"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
)

// TestTokensOfTheVersionBefore are good still, and may what they might.
func TestTokensOfTheVersionBefore(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "vigila.db"))
	require.NoError(t, err)
	exec := func(query string, args ...any) {
		t.Helper()
		_, err := db.Exec(query, args...)
		require.NoError(t, err, query)
	}
	exec(`CREATE TABLE migrations (name TEXT PRIMARY KEY)`)
	names, err := fs.Glob(migrations, "migrations/*.sql")
	require.NoError(t, err)
	for _, name := range names {
		if name >= "migrations/0021" {
			break
		}
		text, err := migrations.ReadFile(name)
		require.NoError(t, err)
		exec(string(text))
		exec(`INSERT INTO migrations VALUES (?)`, name)
	}
	exec(`INSERT INTO tokens (hash, name, role, made, expires) VALUES ('h', 'pipeline', 'operator', 1000, 0)`)
	require.NoError(t, db.Close())
	assert.ErrorContains(t, AddTokenIn(ctx, dir, "x", Token{Name: "more", Role: "admin"}), "is of an older version")

	s, err := Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	got, err := s.TokenByHash(ctx, "h")
	require.NoError(t, err)
	assert.Equal(t, Token{Name: "pipeline", Role: "operator", Made: time.UnixMilli(1000).UTC(), Hash: "h"}, got)
	require.NoError(t, AddTokenIn(ctx, dir, "x", Token{Name: "more", Role: "admin"}))
	may := []grant.Grant{{Do: []grant.Verb{grant.See}, Wards: document.Wards{Owners: []string{"ticketing"}}}}
	require.NoError(t, s.AddToken(ctx, "m", Token{Name: "mate", May: may}))
	got, err = s.TokenByHash(ctx, "m")
	require.NoError(t, err)
	assert.Equal(t, may, got.May)
	all, err := s.Tokens(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 3)
}

// TestPeopleAreKept: providers with their secret sealed, sessions by their hash, teams as their files say.
func TestPeopleAreKept(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	p := Provider{Name: "brindle", Secret: "kelp-forest-71", ProviderMore: ProviderMore{Issuer: "https://sign-in.brindle.example", Client: "vigila", Given: grant.Given{Readers: []string{"everybody"}}}}
	require.NoError(t, s.PutProvider(ctx, p))
	now := time.UnixMilli(1_700_000_000_000).UTC()
	who := grant.Identity{Provider: "brindle", Subject: "1", Name: "reader@brindle.example", Groups: []string{"ticketing"}}
	require.NoError(t, s.AddSession(ctx, Session{Hash: "aaaaaaaaaaaaaaaa", Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: SessionMore{Who: who, Through: "console", From: "127.0.0.1"}}))
	require.NoError(t, s.AddSession(ctx, Session{Hash: "bbbbbbbbbbbbbbbb", Made: now, Used: now.Add(time.Minute), Ends: now.Add(time.Hour), SessionMore: SessionMore{Token: "h", Through: "command line"}}))
	team := grant.Team{Name: "ticketing", Members: grant.Members{Groups: []string{"brindle:ticketing"}}, May: []grant.Grant{{Do: []grant.Verb{grant.Sync}, Wards: document.Wards{Owners: []string{"ticketing"}}, Line: 5}}}
	require.NoError(t, s.PutTeams(ctx, team))
	require.NoError(t, s.Close())
	for _, name := range []string{"vigila.db", "vigila.db-wal"} {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err == nil {
			assert.NotContains(t, string(b), "kelp-forest-71", name)
		}
	}

	s = open(t, dir)
	defer s.Close()
	providers, err := s.Providers(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Provider{p}, providers)
	teams, err := s.Teams(ctx)
	require.NoError(t, err)
	assert.Equal(t, []grant.Team{team}, teams)
	all, err := s.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "bbbbbbbbbbbb", all[0].ID(), "whoever was here last")
	assert.Equal(t, who, all[1].Who)
	require.NoError(t, s.UseSession(ctx, all[1], now.Add(30*time.Second)))
	x, err := s.SessionByHash(ctx, all[1].Hash)
	require.NoError(t, err)
	assert.Equal(t, now, x.Used, "noted once in a minute")
	require.NoError(t, s.UseSession(ctx, all[1], now.Add(2*time.Minute)))
	require.NoError(t, s.EndSessions(ctx, now, now.Add(90*time.Second)))
	all, err = s.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1, "the other was idle")
	p.Issuer = "https://elsewhere.brindle.example"
	require.NoError(t, s.AddSession(ctx, Session{Hash: "cccccccccccccccc", Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: SessionMore{Who: who, Through: "console"}}))
	require.NoError(t, s.AddSession(ctx, Session{Hash: "dddddddddddddddd", Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: SessionMore{Token: "h", Through: "command line"}}))
	same := p
	same.Issuer, same.About = "https://sign-in.brindle.example", "Everybody of the sound"
	require.NoError(t, s.PutProvider(ctx, same))
	_, err = s.SessionByHash(ctx, "cccccccccccccccc")
	require.NoError(t, err, "what else is another of the provider signs nobody out")
	require.NoError(t, s.PutProvider(ctx, p))
	_, err = s.SessionByHash(ctx, "cccccccccccccccc")
	require.ErrorIs(t, err, ErrNone, "of another issuer the same names are other people")
	_, err = s.SessionByHash(ctx, "dddddddddddddddd")
	require.NoError(t, err, "who has signed in by something else stays")
	require.NoError(t, s.EndSession(ctx, "dddddddddddddddd"))
	require.NoError(t, s.AddSession(ctx, Session{Hash: "cccccccccccccccc", Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: SessionMore{Who: who, Through: "console"}}))
	require.NoError(t, s.RemoveProvider(ctx, "brindle"))
	all, err = s.Sessions(ctx)
	require.NoError(t, err)
	assert.Empty(t, all, "who signed in by it is signed out")
	_, err = s.SessionByHash(ctx, "aaaaaaaaaaaaaaaa")
	assert.ErrorIs(t, err, ErrNone)
	require.NoError(t, s.RemoveTeam(ctx, "ticketing"))
}
