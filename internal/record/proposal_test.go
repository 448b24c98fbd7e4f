package record

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/proposal"
)

func TestProposals(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	p := proposal.Proposal{Repo: "moorings", Base: "main", Branch: "vigila/gate", Origin: proposal.Origin{Kind: proposal.Follow, Of: "gate", Want: "2.8.1"}, Standing: proposal.Opening,
		More: proposal.More{Title: "Gate 2.8.1", By: "follow gate", Opened: time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)}}
	p.Number, err = s.AddProposal(ctx, p, []byte("password: tidewater"))
	require.NoError(t, err)
	_, err = s.AddProposal(ctx, p, nil)
	require.Error(t, err, "the same wish twice is one")
	draft, err := s.Draft(ctx, p.Number)
	require.NoError(t, err)
	assert.Equal(t, "password: tidewater", string(draft))
	p = p.Opens("c1").Approve("operator", nil, p.Opened)
	require.NoError(t, s.PutProposal(ctx, p))
	draft, err = s.Draft(ctx, p.Number)
	require.NoError(t, err)
	assert.Nil(t, draft)
	got, err := s.Proposal(ctx, p.Number)
	require.NoError(t, err)
	assert.Equal(t, p, got)
	ended := p.End(proposal.Withdrawn, p.Opened, "operator", "not now", "")
	require.NoError(t, s.PutProposal(ctx, ended))
	p.Number, err = s.AddProposal(ctx, p, nil)
	require.NoError(t, err, "the one before has ended")
	assert.Equal(t, 2, p.Number)
	for find, want := range map[FindProposals][]int{
		{}: {2, 1}, {Live: true}: {2}, {Search: "gate 2.8"}: {2, 1}, {Search: "#1"}: {1}, {Search: "withdrawn"}: {1}, {Search: "nothing"}: nil, {Repo: "other"}: nil, {Limit: 1, Offset: 1}: {1},
	} {
		all, total, err := s.Proposals(ctx, find)
		require.NoError(t, err)
		var numbers []int
		for _, x := range all {
			numbers = append(numbers, x.Number)
		}
		assert.Equal(t, want, numbers, "%+v", find)
		if find.Limit > 0 {
			assert.Equal(t, 2, total, "on all pages")
		}
	}
	for _, n := range []int{0, -1, 9} {
		_, err = s.Proposal(ctx, n)
		require.ErrorIs(t, err, ErrNone)
	}
	require.NoError(t, s.DropProposal(ctx, 2))
	p.Number, err = s.AddProposal(ctx, p, []byte("password: tidewater"))
	require.NoError(t, err)
	assert.Equal(t, 3, p.Number, "a number is never given twice")
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		if st, err := os.Stat(f); err == nil && !st.IsDir() {
			data, err := os.ReadFile(f)
			require.NoError(t, err)
			assert.NotContains(t, string(data), "tidewater", f)
		}
	}
}
