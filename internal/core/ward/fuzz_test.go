package ward

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

// FuzzWard: whatever stands in a ward file, it is wards that can be kept, or an error that names the place.
func FuzzWard(f *testing.F) {
	for _, s := range []string{whole, "vigila: ward/v1\nname: a\n---\nvigila: ward/v1\nname: a\n", "vigila: [ward/v1]", "vigila: ward/v1\nleave: [{of: x, fields: [/a[b=c]/d]}]\nkeep: {every: 1e9h}", "&a {vigila: *a}", "vigila: ward/v1\nafter: {a: b}\nlinks: [1]\ninto: 7\nfrom: null"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		wards, err := Parse("w.yaml", data)
		if err != nil {
			var at *Error
			var syntax *object.SyntaxError
			require.True(t, errors.As(err, &at) || errors.As(err, &syntax), "%v", err)
			return
		}
		require.NotEmpty(t, wards)
		for _, w := range wards {
			require.NoError(t, Name(w.Name))
			require.Positive(t, w.Keep.Every)
			require.Positive(t, w.Settle.Within)
			w.Left(object.Ref{Kind: "Deployment", Name: "berth-planner"})
		}
	})
}

func FuzzDeclared(f *testing.F) {
	for _, s := range []string{spreadOut, "vigila: cluster/v1\nname: a\nlabels: {a: b}\n---\nvigila: ward/v1\n", "vigila: repo/v1\nname: a\nurl: x\nfollow: [submodules]\n", "vigila: roster/v1\nname: a\nlimits: {as: 7}\nfrom: []", "vigila: &a [*a]"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := ParseDeclared(From{Repo: "moorings", Ref: "main"}, "w.yaml", data)
		if err != nil {
			return
		}
		for _, w := range d.Wards {
			require.NotEmpty(t, w.From.Repo)
			require.NotEmpty(t, w.From.Ref)
			one := w.For("quay", map[string]string{"tier": "rehearsal"})
			require.Equal(t, w.Name, one.Name)
		}
		for _, r := range d.Rosters {
			require.NoError(t, Name(r.Name))
		}
	})
}
