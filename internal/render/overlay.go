package render

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	utiljson "k8s.io/apimachinery/pkg/util/json"
	"sigs.k8s.io/kustomize/api/krusty"
	kust "sigs.k8s.io/kustomize/api/types"
	"sigs.k8s.io/kustomize/kyaml/filesys"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/repo"
)

// overlaying makes one overlay at a time: the library keeps its schema in a variable of its own.
var overlaying sync.Mutex

const originAnnotation = "config.kubernetes.io/origin"

// overlay renders a kustomization with the library of its own project, over files of the tree alone.
// Format: https://kubectl.docs.kubernetes.io/references/kustomize/kustomization/
func overlay(ctx context.Context, tree *reader, r Request, out *Result) error {
	dir := r.Ward.From.Path
	check := &overlayCheck{tree: tree, seen: map[string]bool{}, streams: map[string]bool{}}
	check.dir(dir)
	if err := errors.Join(check.errs...); err != nil {
		return err
	}
	fs := &treeFS{tree: tree, root: dir, streams: check.streams}
	opts := krusty.MakeDefaultOptions()
	opts.LoadRestrictions = kust.LoadRestrictionsNone // there is nothing outside the repository
	type made struct {
		objects []object.Object
		err     error
	}
	done := make(chan made, 1)
	go func() { // the library knows no context; what it reads is bounded, so it ends
		overlaying.Lock()
		defer overlaying.Unlock()
		if ctx.Err() != nil {
			done <- made{err: context.Cause(ctx)}
			return
		}
		objects, err := build(fs, opts, dir)
		done <- made{objects, err}
	}()
	var err error
	select {
	case m := <-done:
		out.Objects, err = m.objects, m.err
	case <-ctx.Done():
		err = context.Cause(ctx)
	}
	if err != nil {
		var at *object.SyntaxError
		if errors.As(err, &at) {
			return err
		}
		return &object.SyntaxError{File: path.Join(dir, check.top), Line: 1, Text: "the overlay can't be made: " + strings.ReplaceAll(err.Error(), "/tree/", "")}
	}
	return nil
}

func build(fs *treeFS, opts *krusty.Options, dir string) (objects []object.Object, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the overlay library stopped: %v", p)
		}
	}()
	all, err := krusty.MakeKustomizer(opts).Run(fs, path.Join("/tree", dir))
	if err != nil {
		return nil, err
	}
	size := 0
	for _, res := range all.Resources() {
		text, err := res.MarshalJSON()
		if err != nil {
			return nil, err
		}
		if size += len(text); size > maxOutput {
			return nil, fmt.Errorf("it makes more than %d MiB", maxOutput>>20)
		}
		var body map[string]any
		if err := utiljson.Unmarshal(text, &body); err != nil {
			return nil, err
		}
		file := path.Join(dir, "kustomization.yaml")
		if meta, ok := body["metadata"].(map[string]any); ok {
			if notes, ok := meta["annotations"].(map[string]any); ok {
				if where, ok := notes[originAnnotation].(string); ok {
					file = originFile(dir, where, file)
				}
				if !fs.wantsOrigin {
					if delete(notes, originAnnotation); len(notes) == 0 {
						delete(meta, "annotations")
					}
				}
			}
		}
		o, err := object.FromBody(body)
		if err != nil {
			return nil, &object.SyntaxError{File: file, Line: 1, Text: err.Error()}
		}
		o.File, o.Line = file, fs.line(file, o.Ref)
		if _, err := o.Turn(); err != nil {
			return nil, &object.SyntaxError{File: o.File, Line: o.Line, Text: err.Error()}
		}
		objects = append(objects, o)
	}
	return collect(objects)
}

// originFile reads the library's note of where an object comes from.
func originFile(dir, note, file string) string {
	var o struct {
		Path         string `json:"path"`
		ConfiguredIn string `json:"configuredIn"`
	}
	if yaml.Unmarshal([]byte(note), &o) != nil {
		return file
	}
	if o.Path == "" {
		o.Path = o.ConfiguredIn
	}
	if o.Path == "" {
		return file
	}
	return strings.TrimPrefix(path.Join("/", dir, o.Path), "/")
}

// overlayCheck walks the kustomizations of an overlay before anything is made of them, so that what would be fetched
// or started is refused with its place.
type overlayCheck struct {
	tree *reader
	seen map[string]bool
	errs []error
	top  string // the name of the first kustomization file
	// streams are the files that are read as documents and hold several: the library has a reader of its own, which
	// does not know every separator.
	streams map[string]bool
}

func (c *overlayCheck) fail(file string, line int, format string, args ...any) {
	c.errs = append(c.errs, &object.SyntaxError{File: file, Line: line, Text: fmt.Sprintf(format, args...)})
}

// listed are the keys of a kustomization that name files and directories.
var listed = map[string]string{"resources": "base", "bases": "base", "components": "component", "crds": "file", "configurations": "file",
	"transformers": "file", "generators": "file", "validators": "file", "patchesStrategicMerge": "file"}

func (c *overlayCheck) dir(dir string) {
	if c.seen[dir] || len(c.seen) > 2000 {
		return
	}
	c.seen[dir] = true
	file, data := "", []byte(nil)
	for _, name := range overlayFiles {
		if b, err := c.tree.Read(path.Join(dir, name)); err == nil {
			file, data = path.Join(dir, name), b
			break
		}
	}
	if file == "" {
		return // the library says what is missing
	}
	if c.top == "" {
		c.top = path.Base(file)
	}
	docs := object.Split(data)
	if len(docs) != 1 {
		c.fail(file, 1, "a kustomization file holds one document, not %d", len(docs))
		return
	}
	v, err := object.DecodeYAML(file, docs[0])
	if err != nil {
		c.errs = append(c.errs, err)
		return
	}
	body, ok := v.(map[string]any)
	if !ok {
		c.fail(file, 1, "this is not a kustomization: it must be a mapping of keys")
		return
	}
	if len(c.seen) == 1 && !slices.ContainsFunc([]string{"resources", "bases", "components", "generators", "configMapGenerator", "secretGenerator"}, func(k string) bool {
		items, _ := body[k].([]any)
		return len(items) > 0 || body[k] != nil && items == nil
	}) {
		c.fail(file, 1, "this overlay is made of nothing: it names no resources, components or generators")
	}
	line := func(text string) int { return lineOf(data, text) }
	for _, key := range []string{"helmCharts", "helmChartInflationGenerator", "helmGlobals"} {
		if body[key] != nil {
			c.fail(file, line(key), "%s: an overlay can't pull a chart; make the chart a ward of its own (from.chart), or put its rendered objects here", key)
		}
	}
	for key, what := range listed {
		items, _ := body[key].([]any)
		for _, item := range items {
			text, _ := item.(string)
			switch {
			case text == "" || strings.ContainsAny(text, "\n"):
				c.inline(file, data, text)
			case isRemote(text):
				c.fail(file, line(text), "%s: %s is remote; Vigila reads overlays from the repository alone. Put a copy of it there, or make it a ward of its own", key, text)
			default:
				c.follow(dir, file, key, what, text, line(text))
			}
		}
	}
	c.scalars(file, data, body)
}

// follow checks what a kustomization names: it must be there, and is looked through itself.
func (c *overlayCheck) follow(dir, file, key, what, text string, line int) {
	at := strings.TrimPrefix(path.Join("/", dir, text), "/")
	if strings.HasPrefix(path.Join(dir, text), "..") {
		c.fail(file, line, "%s: %s leaves the repository", key, text)
		return
	}
	hash, err := c.tree.Tree.Hash(at)
	if err != nil {
		c.errs = append(c.errs, err)
		return
	}
	if hash == "" {
		c.fail(file, line, "%s: there is no %s %s in the repository", key, what, at)
		return
	}
	if entries, err := c.tree.List(at); err == nil {
		if !slices.ContainsFunc(entries, func(e repo.Entry) bool { return slices.Contains(overlayFiles, e.Name) }) {
			c.fail(file, line, "%s: %s is a directory without a kustomization.yaml; name its files, or give it one", key, text)
			return
		}
		c.dir(at)
		return
	}
	if b, err := c.tree.Read(at); err == nil {
		switch key {
		case "transformers", "generators", "validators":
			c.inline(at, b, string(b))
		}
		docs := object.Split(b)
		c.streams[at] = len(docs) > 1
		for _, doc := range docs {
			if err := object.Bounded(at, doc); err != nil {
				c.errs = append(c.errs, err)
			}
		}
	}
}

// inline checks the configuration of a plugin: only those that come with the library are run.
func (c *overlayCheck) inline(file string, data []byte, text string) {
	for _, doc := range object.Split([]byte(text)) {
		v, err := object.DecodeYAML(file, doc)
		if err != nil {
			continue // a patch, or something the library explains
		}
		body, _ := v.(map[string]any)
		api, _ := body["apiVersion"].(string)
		kind, _ := body["kind"].(string)
		notes := ""
		if meta, ok := body["metadata"].(map[string]any); ok {
			if all, ok := meta["annotations"].(map[string]any); ok {
				notes, _ = all["config.kubernetes.io/function"].(string)
			}
		}
		if notes != "" || strings.Contains(kind, "Helm") {
			c.fail(file, lineOf(data, kind), "%s is a plugin that starts something; Vigila runs only those built into overlays", kind)
		}
		if body != nil && api != "" && api != "builtin" && kind != "" && strings.HasSuffix(kind, "Transformer") {
			c.fail(file, lineOf(data, kind), "%s of %s is a plugin from outside; Vigila runs only those built into overlays (apiVersion: builtin)", kind, api)
		}
		c.scalars(file, data, body)
	}
}

// scalars looks for addresses wherever a configuration may name a file.
func (c *overlayCheck) scalars(file string, data []byte, v any) {
	var walk func(key string, v any)
	walk = func(key string, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k, y := range x {
				walk(k, y)
			}
		case []any:
			for _, y := range x {
				walk(key, y)
			}
		case string:
			switch key {
			case "path", "paths", "files", "envs", "env", "openapi", "patchesJson6902", "replacements":
				if _, after, ok := strings.Cut(x, "="); ok && key == "files" {
					x = after
				}
				if low := strings.ToLower(x); strings.HasPrefix(low, "http:") || strings.HasPrefix(low, "https:") {
					c.fail(file, lineOf(data, x), "%s: %s is remote; put the file into the repository", key, x)
				}
			}
		}
	}
	walk("", v)
}

// isRemote tells whether the overlay library would fetch this instead of reading it: an address, or a git host.
func isRemote(text string) bool {
	low := strings.ToLower(text)
	host, _, _ := strings.Cut(low, "/")
	return strings.Contains(low, "://") || strings.HasPrefix(low, "git::") || strings.HasPrefix(low, "git@") || strings.Contains(low, "?ref=") || strings.Contains(low, "?version=") ||
		strings.Contains(host, ":") || strings.HasPrefix(low, "http:") || strings.HasPrefix(low, "https:") || strings.Contains(low, "_git/") ||
		strings.HasPrefix(host, "github.com") || strings.HasPrefix(host, "www.github.com") || strings.Contains(low, ".git/") || strings.HasSuffix(low, ".git") || strings.Contains(strings.TrimPrefix(low, "/"), "//")
}

// lineOf is the first line that holds a text, 1-based.
func lineOf(data []byte, text string) int {
	if before, _, ok := strings.Cut(string(data), text); ok && text != "" {
		return strings.Count(before, "\n") + 1
	}
	return 1
}

// treeFS lets the overlay library read a tree, below /tree. Nothing can be written.
type treeFS struct {
	tree        *reader
	root        string // of the overlay
	wantsOrigin bool   // the overlay asks itself for the notes that say where objects come from
	streams     map[string]bool
}

var errReadOnly = errors.New("nothing is written while an overlay is made")

func (f *treeFS) path(p string) (string, bool) {
	p = path.Clean(filepath.ToSlash(p))
	if p == "/tree" {
		return "", true
	}
	rest, ok := strings.CutPrefix(p, "/tree/")
	return rest, ok
}

func (f *treeFS) Create(string) (filesys.File, error) { return nil, errReadOnly }
func (f *treeFS) Mkdir(string) error                  { return errReadOnly }
func (f *treeFS) MkdirAll(string) error               { return errReadOnly }
func (f *treeFS) RemoveAll(string) error              { return errReadOnly }
func (f *treeFS) WriteFile(string, []byte) error      { return errReadOnly }
func (f *treeFS) Open(string) (filesys.File, error)   { return nil, errReadOnly }
func (f *treeFS) Glob(string) ([]string, error)       { return nil, nil }

func (f *treeFS) IsDir(p string) bool {
	at, ok := f.path(p)
	if !ok {
		return p == "/" || p == "."
	}
	_, err := f.tree.Tree.List(at)
	return err == nil
}

func (f *treeFS) ReadDir(p string) ([]string, error) {
	at, ok := f.path(p)
	if !ok {
		return nil, fmt.Errorf("%s is outside the repository", p)
	}
	entries, err := f.tree.List(at)
	var out []string
	for _, e := range entries {
		out = append(out, e.Name)
	}
	return out, err
}

func (f *treeFS) Exists(p string) bool {
	at, ok := f.path(p)
	if !ok {
		return false
	}
	h, err := f.tree.Hash(at)
	return err == nil && h != ""
}

func (f *treeFS) CleanedAbs(p string) (filesys.ConfirmedDir, string, error) {
	if !path.IsAbs(p) {
		p = path.Join("/tree", p)
	}
	p = path.Clean(p)
	at, ok := f.path(p)
	switch {
	case !ok:
		return "", "", fmt.Errorf("%s is outside the repository", p)
	case f.IsDir(p):
		return filesys.ConfirmedDir(p), "", nil
	case !f.Exists(p):
		return "", "", fmt.Errorf("there is no %s in %s", pathOr(at), f.tree.Name())
	}
	return filesys.ConfirmedDir(path.Dir(p)), path.Base(p), nil
}

func (f *treeFS) ReadFile(p string) ([]byte, error) {
	at, ok := f.path(p)
	if !ok {
		return nil, fmt.Errorf("%s is outside the repository", p)
	}
	data, err := f.tree.Read(at)
	if err == nil && f.streams[at] {
		var plain []byte
		for _, doc := range object.Split(data) {
			plain = append(append(append(plain, "\n---\n"...), bytes.TrimPrefix(doc.Text, []byte("---"))...), '\n')
		}
		return plain, nil
	}
	if err != nil || path.Dir(path.Join("/", at)) != path.Join("/", f.root) || !slices.Contains(overlayFiles, path.Base(at)) {
		return data, err
	}
	var body map[string]any
	if yaml.Unmarshal(data, &body) != nil {
		return data, nil
	}
	notes, _ := body["buildMetadata"].([]any)
	if f.wantsOrigin = slices.Contains(notes, any(kust.OriginAnnotations)); f.wantsOrigin {
		return data, nil
	}
	body["buildMetadata"] = append(notes, kust.OriginAnnotations)
	return yaml.Marshal(body)
}

func (f *treeFS) Walk(p string, walk filepath.WalkFunc) error {
	return fmt.Errorf("walk %s: %w", p, errReadOnly)
}

// line finds an object in the file that it comes from.
func (f *treeFS) line(file string, ref object.Ref) int {
	data, err := f.tree.Tree.Read(file)
	if err != nil {
		return 1
	}
	objects, err := object.Parse(file, data)
	if err != nil {
		return 1
	}
	for _, o := range objects {
		if o.Ref.Kind == ref.Kind && strings.Contains(ref.Name, o.Ref.Name) {
			return o.Line
		}
	}
	return 1
}
