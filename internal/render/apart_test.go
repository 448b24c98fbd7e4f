package render

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// TestMain is the other process of Apart as well.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == "render-apart" {
		if err := Serve(context.Background(), os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

func apart(t *testing.T) *Apart {
	self, err := os.Executable()
	require.NoError(t, err)
	return NewApart(self, "render-apart")
}

func written(t *testing.T, files map[string]string) repo.Folder {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return repo.Folder{Root: dir}
}

const chartYAML = "apiVersion: v2\nname: quay\nversion: 1.0.0\n"

// TestApartIsTheSame: whatever is rendered in a process of its own gives what it would here, with the same mistakes.
func TestApartIsTheSame(t *testing.T) {
	cm := func(name, value string) string {
		return "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: " + name + "}\ndata: {v: " + value + "}\n"
	}
	errFar := errors.New("it is far away")
	for name, c := range map[string]struct {
		files  map[string]string
		values map[string]any
		from   []ward.ValuesFile
		want   string // of the mistake
	}{
		"overlay": {files: map[string]string{"app/kustomization.yaml": "resources: [a.yaml, ../base]\nnamePrefix: x-\n", "app/a.yaml": cm("a", `"1"`), "base/kustomization.yaml": "resources: [b.yaml]\n", "base/b.yaml": cm("b", `"2"`)}},
		"chart": {files: map[string]string{"app/Chart.yaml": chartYAML, "app/values.yaml": "n: 3\nbig: 9007199254740993\n", "app/templates/a.yaml": cm("a", `"{{ .Values.n }}-{{ .Values.big }}-{{ .Capabilities.KubeVersion.Version }}"`) + "---\n" + "apiVersion: x.brindle.example/v1\nkind: Tug\nmetadata: {name: t}\nspec: {long: 9007199254740993, part: 1.5}\n"},
			values: map[string]any{"n": int64(9007199254740993)}},
		"values elsewhere":   {files: map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": cm("a", `"{{ .Values.n }}"`), "v.yaml": "n: 7\n"}, from: []ward.ValuesFile{{Path: "v.yaml"}, {Repo: "other", Path: "o.yaml"}}},
		"values that aren't": {files: map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": cm("a", "x")}, from: []ward.ValuesFile{{Repo: "far", Path: "o.yaml"}}, want: "values o.yaml of ward w: it is far away"},
		"no values":          {files: map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": cm("a", "x")}, from: []ward.ValuesFile{{Path: "none.yaml"}}, want: "there is no"},
		"mistakes":           {files: map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": "kind: {{ .Values.none.deeper }}\n", "app/templates/b.yaml": "kind: [\n"}, want: "app/templates/a.yaml:1"},
		"broken overlay":     {files: map[string]string{"app/kustomization.yaml": "resources: [none.yaml]\n"}, want: "app/kustomization.yaml:1: resources: there is no base app/none.yaml"},
		"nothing":            {files: map[string]string{"else/a.yaml": cm("a", "x")}, values: map[string]any{"a": "b"}, want: "holds neither a chart"},
		"large and plain":    {files: map[string]string{"app/a.yaml": cm("a", strings.Repeat("x", lightly)), "app/b.json": `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"b"}}`, "app/c.txt": "no manifest"}},
	} {
		t.Run(name, func(t *testing.T) {
			tree := written(t, c.files)
			other := written(t, map[string]string{"o.yaml": "n: 11\n"})
			r := Request{Ward: ward.Ward{Name: "w", From: ward.From{Repo: "r", Ref: "main", Path: "app", Values: c.values, ValuesIn: c.from}}, Tree: tree, Cluster: Cluster{Name: "quay", Version: "v1.36.1"},
				Other: func(name, _ string) (Tree, error) {
					if name == "far" {
						return nil, errFar
					}
					return other, nil
				}}
			here, wrong := Render(context.Background(), r)
			far, alsoWrong := apart(t).Render(context.Background(), r)
			if c.want != "" {
				require.ErrorContains(t, wrong, c.want)
				require.ErrorContains(t, alsoWrong, c.want)
				assert.Equal(t, wrong.Error(), alsoWrong.Error())
				assert.Equal(t, errors.Is(wrong, errFar), errors.Is(alsoWrong, errFar), "what it came from is known")
				assert.Equal(t, errors.Is(wrong, repo.ErrNoPath), errors.Is(alsoWrong, repo.ErrNoPath))
				var a, b *object.SyntaxError
				assert.Equal(t, errors.As(wrong, &a), errors.As(alsoWrong, &b))
				assert.Equal(t, a, b)
				return
			}
			require.NoError(t, wrong)
			require.NoError(t, alsoWrong)
			require.Len(t, far.Objects, len(here.Objects))
			assert.Equal(t, here, far)
		})
	}
}

// TestWhatTakesTooMuchIsEnded: and says so, with the place; the next is rendered as if nothing had been.
func TestWhatTakesTooMuchIsEnded(t *testing.T) {
	a := apart(t)
	good := Request{Ward: ward.Ward{Name: "w", From: ward.From{Repo: "good", Path: "app"}}, Tree: written(t, map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n"})}
	// Each level has the one below it twice: 2^levels objects.
	nested := map[string]string{"l0/kustomization.yaml": "resources: [a.yaml]\n", "l0/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\ndata: {v: " + strings.Repeat("x", 1<<20) + "}\n"}
	for i := 1; i <= 12; i++ {
		for _, side := range []string{"a", "b"} {
			nested[fmt.Sprintf("l%d%s/kustomization.yaml", i, side)] = fmt.Sprintf("namePrefix: %s-\nresources: [../l%d]\n", side, i-1)
		}
		nested[fmt.Sprintf("l%d/kustomization.yaml", i)] = fmt.Sprintf("resources: [../l%da, ../l%db]\n", i, i)
	}
	search := map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": "{{ $t := repeat 200000 \"a\" }}{{ range until 1000000 }}{{ $x := regexMatch \"(a*)*(a|b)*(a?){200}b$\" $t }}{{ end }}"}
	for name, c := range map[string]struct {
		files  map[string]string
		path   string
		bounds bounds
		want   string
	}{
		"memory": {nested, "l12", bounds{160 << 20, 30 * time.Second}, "l12 in T: rendering took more than 160 MiB of memory and was ended; look for what contains itself"},
		"time":   {search, "app", bounds{maxMemory, time.Second}, "app in T: rendering took more than 1s of processor time and was ended"},
	} {
		t.Run(name, func(t *testing.T) {
			if underRace && name == "memory" {
				t.Skip("the race detector's own memory ends it otherwise")
			}
			a := apart(t)
			a.bounds = c.bounds
			tree := written(t, c.files)
			_, err := a.Render(context.Background(), Request{Ward: ward.Ward{Name: "w", From: ward.From{Repo: "bad", Path: c.path}}, Tree: tree})
			var over *Overrun
			require.ErrorAs(t, err, &over)
			assert.Contains(t, strings.Replace(err.Error(), tree.Root, "T", 1), c.want)
			assert.Contains(t, strings.Join(slices.Collect(maps.Keys(a.late)), " "), "bad "+c.path)
			a.bounds = bounds{maxMemory, maxCPU}
			res, err := a.Render(context.Background(), good)
			require.NoError(t, err)
			assert.Len(t, res.Objects, 1)
		})
	}
	t.Run("whoever waits no longer", func(t *testing.T) {
		ctx, cancel := context.WithCancel(context.Background())
		cancel()
		_, err := a.Render(ctx, good)
		assert.ErrorIs(t, err, context.Canceled)
	})
}

// TestOneRepositoryNeverHasAllPlaces: and what was ended of it has a single one, so that the rest of it does not wait for that.
func TestOneRepositoryNeverHasAllPlaces(t *testing.T) {
	a := NewApart()
	a.places = 4
	ctx := context.Background()
	take := func(repo string, what ...string) func() {
		back, err := a.take(ctx, repo, repo+strings.Join(what, ""))
		require.NoError(t, err)
		return back
	}
	free := func(repo string, what ...string) bool {
		waits := &waiter{repo: repo, what: repo + strings.Join(what, "")}
		ctx, cancel := context.WithCancel(ctx)
		cancel() // asks, and does not wait
		a.mu.Lock()
		before := len(a.waiting)
		a.mu.Unlock()
		back, err := a.take(ctx, repo, waits.what)
		if err == nil {
			back()
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		assert.Len(t, a.waiting, before, "who waits no longer is not waited for")
		return a.may(waits)
	}
	one, two := take("bad"), take("bad")
	assert.False(t, free("bad"))
	assert.True(t, free("good"))
	got := make(chan func())
	go func() {
		back, err := a.take(ctx, "bad", "bad")
		assert.NoError(t, err)
		got <- back
	}()
	three := take("good") // whoever waits for the bad one's place stands in nobody's way
	one()
	four := <-got
	two()
	three()
	four()
	for _, what := range []string{"bad bomb", "bad loop"} {
		a.late[what] = time.Now().Add(time.Hour)
	}
	five := take("bad", " bomb")
	assert.False(t, free("bad", " loop"), "one at a time of what was ended")
	assert.True(t, free("bad", " app"), "which the rest does not wait for")
	five()
	assert.True(t, free("bad", " loop"))
	for what := range a.late {
		a.late[what] = time.Now().Add(-time.Second)
	}
	take("bad", " bomb")()
	take("bad", " loop")()
	assert.Empty(t, a.late)
	assert.Empty(t, a.of)
	assert.Empty(t, a.slow)
	assert.Zero(t, a.busy)
}

// TestWhatTheOtherProcessMaySay: nothing that it says makes this one wait, panic or take more than it needs.
func TestWhatTheOtherProcessMaySay(t *testing.T) {
	for name, text := range said() {
		t.Run(name, func(t *testing.T) {
			h := &host{trees: []Tree{written(t, map[string]string{"a": "b"})}, to: newWriter(io.Discard), from: newReader(bytes.NewReader(text))}
			_, err := h.serve()
			var odd *brokenError
			require.Error(t, err)
			assert.ErrorAs(t, err, &odd)
		})
	}
}

// said are things that a process could say and should not.
func said() map[string][]byte {
	message := func(head string, size int, body string) []byte {
		return fmt.Appendf(nil, "%c%c%c%c%c%c%c%c%c%c%c%c%s%s", 0, 0, byte(len(head)>>8), byte(len(head)), 0, 0, 0, 0, 0, 0, 0, byte(size), head, body)
	}
	return map[string][]byte{
		"nothing":               nil,
		"half a length":         {0, 0},
		"a head of 4 GiB":       bytes.Repeat([]byte{0xff}, 12),
		"a head that is short":  message(`{"do":"hash"}`, 0, "")[:14],
		"no JSON":               message(`{"do":`, 0, ""),
		"another call":          message(`{"do":"run"}`, 0, ""),
		"another tree":          message(`{"do":"read","tree":7}`, 0, ""),
		"a tree below":          message(`{"do":"read","tree":-1}`, 0, ""),
		"no other":              message(`{"do":"other"}`, 0, ""),
		"no charts":             message(`{"do":"chart"}`, 0, ""),
		"a body with a call":    message(`{"do":"hash"}`, 1, "x"),
		"an object of no size":  message(`{"do":"done","objects":[{"path":"a","size":-1}]}`, 0, ""),
		"a longer object":       message(`{"do":"done","objects":[{"path":"a","size":9}]}`, 2, "{}"),
		"an object that is cut": message(`{"do":"done","objects":[{"path":"a","size":9}]}`, 9, "{}"),
		"no object":             message(`{"do":"done","objects":[{"path":"a","size":2}]}`, 2, "{}"),
		"a failure of nothing":  message(`{"do":"failed"}`, 0, ""),
	}
}

func FuzzApart(f *testing.F) {
	for _, text := range said() {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		h := &host{trees: []Tree{repo.Folder{Root: "/nonexistent"}}, to: newWriter(io.Discard), from: newReader(bytes.NewReader(text))}
		res, err := h.serve()
		assert.True(t, (res == nil) != (err == nil))
		_, _ = serveOne(context.Background(), newReader(bytes.NewReader(text)), newWriter(io.Discard), func(bounds) error { return nil }, fresh) // and the other way
	})
}

// TestAProcessRendersMoreOfItsRepository, and of no other; one that died of it is replaced, and one that nobody needs ends.
func TestAProcessRendersMoreOfItsRepository(t *testing.T) {
	a := apart(t)
	a.idleFor = time.Hour
	tree := written(t, map[string]string{"app/Chart.yaml": chartYAML, "app/templates/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n", "bad/Chart.yaml": chartYAML, "bad/templates/a.yaml": "{{"})
	render := func(repo, path string) error {
		_, err := a.Render(context.Background(), Request{Ward: ward.Ward{Name: "w", From: ward.From{Repo: repo, Path: path}}, Tree: tree})
		return err
	}
	pid := func(repo string) int {
		a.mu.Lock()
		defer a.mu.Unlock()
		require.Len(t, a.idle[repo], 1)
		return a.idle[repo][0].cmd.Process.Pid
	}
	require.NoError(t, render("one", "app"))
	first := pid("one")
	require.ErrorContains(t, render("one", "bad"), "this is not a valid template")
	require.NoError(t, render("one", "app"))
	assert.Equal(t, first, pid("one"))
	require.NoError(t, render("two", "app"))
	assert.NotEqual(t, first, pid("two"))
	p, err := os.FindProcess(first)
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	require.NoError(t, render("one", "app"), "it is rendered in another")
	assert.NotEqual(t, first, pid("one"))
	a.mu.Lock()
	a.places = 2
	a.mu.Unlock()
	require.NoError(t, render("three", "app"))
	a.mu.Lock()
	assert.Empty(t, a.idle["three"], "there are no more of them than places")
	a.places, a.idleFor = 4, time.Millisecond
	a.mu.Unlock()
	for _, repo := range []string{"one", "two"} {
		require.NoError(t, render(repo, "app"))
	}
	assert.Eventually(t, func() bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		return len(a.idle) == 0
	}, 20*time.Second, 20*time.Millisecond)
}
