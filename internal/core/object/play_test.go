package object

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
	"sigs.k8s.io/structured-merge-diff/v6/value"
)

// remove does what the API server does with a JSON Patch of removals.
func remove(t *testing.T, body map[string]any, ops []Operation) map[string]any {
	t.Helper()
	var root any = Clone(body)
	for _, op := range ops {
		if op.Op != "remove" {
			continue
		}
		parts := strings.Split(strings.TrimPrefix(op.Path, "/"), "/")
		var cut func(v any, parts []string) any
		cut = func(v any, parts []string) any {
			name := strings.NewReplacer("~1", "/", "~0", "~").Replace(parts[0])
			switch v := v.(type) {
			case map[string]any:
				require.Contains(t, v, name, op.Path)
				if len(parts) == 1 {
					delete(v, name)
				} else {
					v[name] = cut(v[name], parts[1:])
				}
				return v
			case []any:
				i, err := strconv.Atoi(name)
				require.NoError(t, err)
				require.Less(t, i, len(v), op.Path)
				if len(parts) == 1 {
					return append(v[:i:i], v[i+1:]...)
				}
				v[i] = cut(v[i], parts[1:])
				return v
			}
			t.Fatalf("%s leads nowhere", op.Path)
			return nil
		}
		root = cut(root, parts)
	}
	return root.(map[string]any)
}

// grow invents a body, and shares its fields out between us and another client.
func grow(r *rand.Rand, depth int, path fieldpath.Path, ours, theirs *fieldpath.Set) any {
	give := func(p fieldpath.Path) {
		switch r.IntN(4) {
		case 0:
			theirs.Insert(p.Copy())
		case 1:
			ours.Insert(p.Copy())
			theirs.Insert(p.Copy())
		default:
			ours.Insert(p.Copy())
		}
	}
	at := func(pe fieldpath.PathElement) fieldpath.Path { return append(path[:len(path):len(path)], pe) }
	switch n := r.IntN(6); {
	case depth > 0 && n < 3:
		m := map[string]any{}
		for i := range 1 + r.IntN(3) {
			name := []string{"a", "b/c", "d~e"}[i]
			m[name] = grow(r, depth-1, at(fieldpath.PathElement{FieldName: &name}), ours, theirs)
		}
		return m
	case depth > 0 && n < 5:
		var l []any
		for i := range 1 + r.IntN(3) {
			name := fmt.Sprint("n", i)
			key := value.FieldList{{Name: "name", Value: value.NewValueInterface(name)}}
			p := at(fieldpath.PathElement{Key: &key})
			mine, his := &fieldpath.Set{}, &fieldpath.Set{}
			field := "v"
			item := map[string]any{"name": name, "v": grow(r, depth-1, append(p[:len(p):len(p)], fieldpath.PathElement{FieldName: &field}), mine, his)}
			label := "name"
			if r.IntN(3) == 0 { // an item that is all theirs
				his = his.Union(mine)
				mine = &fieldpath.Set{}
				his.Insert(p.Copy())
				his.Insert(append(p[:len(p):len(p)], fieldpath.PathElement{FieldName: &label}))
			} else {
				mine.Insert(p.Copy())
				mine.Insert(append(p[:len(p):len(p)], fieldpath.PathElement{FieldName: &label}))
			}
			*ours, *theirs = *ours.Union(mine), *theirs.Union(his)
			l = append(l, item)
		}
		return l
	default:
		give(path)
		return int64(r.IntN(9))
	}
}

// TestRemovalWhateverTheShape: after the patch no addition is left, and everything of ours is as it was.
func TestRemovalWhateverTheShape(t *testing.T) {
	removed := 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 3))
		ours, theirs := &fieldpath.Set{}, &fieldpath.Set{}
		spec := "spec"
		body := map[string]any{"apiVersion": "x/v1", "kind": "X", "metadata": map[string]any{"name": "x", "resourceVersion": "1"}}
		body["spec"] = grow(r, 4, fieldpath.Path{{FieldName: &spec}}, ours, theirs)
		raw, err := theirs.ToJSON()
		require.NoError(t, err)
		entry, err := DecodeYAML("x", Document{Line: 1, Text: raw})
		require.NoError(t, err)
		body["metadata"].(map[string]any)["managedFields"] = []any{map[string]any{"manager": "hurry", "operation": "Update", "fieldsV1": entry}}
		owned := FieldSet{Set: ours, Shells: map[string]bool{}}

		all := owned.Additions(body, nil)
		removed += len(all)
		for _, a := range all {
			require.False(t, ours.Has(a.Path), "seed %d: %s is ours", seed, PathString(a.Path))
		}
		after := remove(t, body, owned.Removal(body, all))
		require.Empty(t, owned.Additions(after, nil), "seed %d", seed)
		require.Equal(t, owned.Project(body), owned.Project(after), "seed %d", seed)
		require.Equal(t, after, remove(t, after, owned.Removal(after, all)), "seed %d: twice is once", seed)
	}
	require.Greater(t, removed, 1000)
}
