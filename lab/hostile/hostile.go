// Package hostile makes a repository of things that cost whoever reads them as much as they can: bombs, trees without an end,
// overlays and templates that never finish, odd names, commits like books. Start with Push.
package hostile

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Thing is one path of the repository, and what whoever reads it should say; "" when it is harmless and only large.
type Thing struct {
	Path string `json:"path"`
	Says string `json:"says"`
}

const chart = "apiVersion: v2\nname: hostile\nversion: 1.0.0\n"

func object(name, value string) string {
	return "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: " + name + "}\ndata: {v: " + value + "}\n"
}

// Push commits everything to a repository's branch main. The same things come with every call; another round makes them all new.
func Push(url string, round int) ([]Thing, error) {
	if _, err := os.Stat(url); err == nil { // a repository on this machine, which git is not asked for from here
		if url, err = filepath.Abs(url); err != nil {
			return nil, err
		}
	}
	dir, err := os.MkdirTemp("", "vigila-hostile-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	files := map[string]string{"round": fmt.Sprint(round)}
	var things []Thing
	add := func(path, says string, with map[string]string) {
		things = append(things, Thing{path, says})
		for name, text := range with {
			files[path+"/"+name] = text + fmt.Sprintf("\n# %d\n", round)
		}
	}

	var alias strings.Builder
	alias.WriteString("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\nx0: &x0 [a, a, a, a, a, a, a, a, a, a]\n")
	for i := 1; i < 12; i++ {
		alias.WriteString(fmt.Sprintf("x%d: &x%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*x%d, ", i-1), 10), ", ")))
	}
	add("aliases", "aliases", map[string]string{"a.yaml": alias.String()})
	add("deep", "", map[string]string{"a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\nx: " + strings.Repeat("[", 100_000) + strings.Repeat("]", 100_000)})

	// Each level has the one below it twice.
	nested := map[string]string{"l0/kustomization.yaml": "resources: [a.yaml]", "l0/a.yaml": object("a", strings.Repeat("x", 10_000))}
	const levels = 24
	for i := 1; i <= levels; i++ {
		for _, side := range []string{"a", "b"} {
			nested[fmt.Sprintf("l%d%s/kustomization.yaml", i, side)] = fmt.Sprintf("namePrefix: %s-\nresources: [../l%d]", side, i-1)
		}
		nested[fmt.Sprintf("l%d/kustomization.yaml", i)] = fmt.Sprintf("resources: [../l%da, ../l%db]", i, i)
	}
	nested["kustomization.yaml"] = fmt.Sprintf("resources: [l%d]", levels)
	add("nested", "and was ended", nested)

	add("search", "and was ended", map[string]string{"Chart.yaml": chart, "templates/a.yaml": `{{ $t := repeat 200000 "a" }}{{ range until 1000000 }}{{ $x := regexMatch "(a*)*(a|b)*(a?){200}b$" $t }}{{ end }}`})
	add("itself", "without end", map[string]string{"Chart.yaml": chart, "templates/a.yaml": `{{ define "x" }}{{ include "x" . }}{{ end }}{{ include "x" . }}`})
	add("output", "", map[string]string{"Chart.yaml": chart, "templates/a.yaml": `{{ range until 30000 }}
---
apiVersion: v1
kind: ConfigMap
metadata: {name: m{{ . }}}
data: {v: {{ repeat 4000 "x" }}}
{{ end }}`})
	var pack bytes.Buffer
	z, _ := gzip.NewWriterLevel(&pack, gzip.BestSpeed) // never fails: the level is one
	t := tar.NewWriter(z)
	if err := t.WriteHeader(&tar.Header{Name: "sub/big", Typeflag: tar.TypeReg, Mode: 0o644, Size: 1 << 30}); err != nil {
		return nil, err
	}
	zeros := make([]byte, 1<<20)
	for range 1 << 10 {
		if _, err := t.Write(zeros); err != nil {
			return nil, err
		}
	}
	if err := t.Close(); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	add("archive", "is larger than", map[string]string{"Chart.yaml": chart})
	files["archive/charts/sub.tgz"] = pack.String()
	add("odd", "", map[string]string{"-rf.yaml": object("a", "x"), "$(touch x).yaml": object("b", "x"), "\x1b]52;c;bad\x07.yaml": object("c", "x"), " .yaml": object("d", "x"), "..yaml": object("e", "x"), "ü\u202e.yaml": object("f", "x")})
	add("bomb", "bomb/a.yaml has 268435456 bytes", nil)
	large := map[string]string{} // nothing of it is more than it may be
	for i := range 7 {
		large[fmt.Sprintf("%d.yaml", i)] = object(fmt.Sprintf("m%d", i), strings.Repeat("x", 8<<20-1000))
	}
	add("large", "it does too much", large)
	add("names", "holds more than", nil)
	add("path", "is longer than", nil)

	for name, text := range files {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "bomb"), 0o755); err != nil {
		return nil, err
	}
	bomb, err := os.Create(filepath.Join(dir, "bomb", "a.yaml"))
	if err != nil {
		return nil, err
	}
	if err := bomb.Truncate(256 << 20); err != nil {
		return nil, err
	}
	if err := bomb.Close(); err != nil {
		return nil, err
	}
	git := func(in string, args ...string) (string, error) {
		cmd := exec.Command("git", append([]string{"-c", "user.name=operator", "-c", "user.email=o@brindle.example", "-c", "core.bigFileThreshold=8m", "-c", "core.protectNTFS=false"}, args...)...)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(in)
		cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null") // filters of this machine would put something else in their place
		out, err := cmd.CombinedOutput()
		if err != nil {
			return "", fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
		return strings.TrimSpace(string(out)), nil
	}
	if _, err := git("", "init", "--quiet", "--initial-branch=main"); err != nil {
		return nil, err
	}
	if _, err := git("", "add", "-A"); err != nil {
		return nil, err
	}
	// One tree in a thousand places of another, four levels high; and one in itself, as far down as a path goes.
	blob, err := git("x: 1\n", "hash-object", "-w", "--stdin")
	if err != nil {
		return nil, err
	}
	tree, err := git(fmt.Sprintf("100644 blob %s\ta.yaml\n", blob), "mktree")
	if err != nil {
		return nil, err
	}
	long := tree
	for range 4 {
		var all strings.Builder
		for i := range 1000 {
			fmt.Fprintf(&all, "040000 tree %s\td%d\n", tree, i)
		}
		if tree, err = git(all.String(), "mktree"); err != nil {
			return nil, err
		}
	}
	for range 40 {
		if long, err = git(fmt.Sprintf("040000 tree %s\t%s\n", long, strings.Repeat("n", 200)), "mktree"); err != nil {
			return nil, err
		}
	}
	root, err := git("", "write-tree")
	if err != nil {
		return nil, err
	}
	listed, err := git("", "ls-tree", root)
	if err != nil {
		return nil, err
	}
	if root, err = git(fmt.Sprintf("%s\n040000 tree %s\tnames\n040000 tree %s\tpath\n", listed, tree, long), "mktree"); err != nil {
		return nil, err
	}
	commit, err := git(strings.Repeat("Harbour ", 5<<20/8), "commit-tree", root)
	if err != nil {
		return nil, err
	}
	_, err = git("", "push", "--quiet", "--force", url, commit+":refs/heads/main")
	return things, err
}
