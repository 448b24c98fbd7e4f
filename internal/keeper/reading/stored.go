package reading

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// storedForm changes whenever rendering gives other objects for the same files, or the form below is another.
const storedForm = "4"

// Packed is a declaration as the record keeps it, and as it goes to a lookout: without what follows from the rest.
type Packed struct {
	Inputs   []declared.Input `json:"inputs"`
	Form     string           `json:"form"`
	Chart    string           `json:"chart,omitempty"`
	Notes    []string         `json:"notes,omitempty"`
	Head     string           `json:"head,omitempty"`
	Revision logbook.Revision `json:"revision"`
	Snapshot string           `json:"snapshot"`
	Rules    []declared.File  `json:"rules,omitempty"`
	Scaled   []storedPair     `json:"scaled,omitempty"`
	Findings []rule.Finding   `json:"findings,omitempty"`
	Judged   string           `json:"judged,omitempty"`
	Objects  []storedDeclared `json:"objects"`
	Tag      string           `json:"tag,omitempty"`
	Waits    string           `json:"waits,omitempty"`
}

type storedPair struct {
	Key  string `json:"key"`
	Name string `json:"name"`
}

type storedDeclared struct {
	Key     string       `json:"key"`
	Hash    string       `json:"hash"`
	Version string       `json:"version"`
	File    string       `json:"file,omitempty"`
	Line    int          `json:"line,omitempty"`
	Turn    object.Turn  `json:"turn,omitzero"`
	Secrets []secret.Ref `json:"secrets,omitempty"`
}

// storedKey names everything beside the tree that a declaration depends on.
func (w *Ward) storedKey() string {
	var rules []any
	for _, f := range w.House.RosterRules(w.Roster) {
		rules = append(rules, f.Path, string(f.Data))
	}
	only, may := w.Cluster.Namespaces()
	return object.Hash([]any{storedForm, w.File, w.Main.Name(), fmt.Sprint(w.Cluster.Labels()), fmt.Sprint(w.Limits, only, may), rule.OwnHash(), rules})
}

func (w *Ward) store(ctx context.Context, d *declared.Declaration) error {
	return w.Cache.PutDeclaration(ctx, w.ID, w.storedKey(), Pack(d))
}

// Pack is a declaration without what follows from the rest of it.
func Pack(d *declared.Declaration) Packed {
	out := Packed{Tag: d.Tag, Waits: d.Waits, Inputs: d.Inputs, Form: d.Form, Chart: d.Chart, Notes: d.Notes, Head: d.Head, Revision: d.Revision, Snapshot: d.Snapshot, Rules: d.Files, Findings: d.Findings, Judged: d.Judged, Objects: make([]storedDeclared, len(d.Objects))}
	for ref, name := range d.Scaled {
		out.Scaled = append(out.Scaled, storedPair{ref.Key(), name})
	}
	slices.SortFunc(out.Scaled, func(a, b storedPair) int { return strings.Compare(a.Key, b.Key) })
	for i, o := range d.Objects {
		out.Objects[i] = storedDeclared{Key: o.Ref.Key(), Hash: o.Hash, Version: o.Version, File: o.File, Line: o.Line, Turn: o.Turn, Secrets: o.Secrets}
	}
	return out
}

// Digest tells two declarations apart, but for the commit that their repository was at: most commits change nothing of a ward.
func (in Packed) Digest() string {
	in.Head, in.Tag, in.Revision.At = "", "", in.Revision.At.UTC()
	return object.Hash(in)
}

// Stored is what the repository declared before the service started; nil when that is not known, or the
// ward file was another.
func (w *Ward) Stored(ctx context.Context) (*declared.Declaration, error) {
	var in Packed
	err := w.Cache.Declaration(ctx, w.ID, w.storedKey(), &in)
	if errors.Is(err, record.ErrNone) {
		return nil, nil
	}
	if err != nil {
		w.Log.Warn("what was declared can't be read any more; it is rendered again", "error", err)
		return nil, nil
	}
	d, err := in.Open()
	if err != nil {
		w.Log.Warn("what was declared can't be read any more; it is rendered again", "error", err)
		return nil, nil
	}
	w.inputs.Store(&d.Inputs)
	return d, nil
}

// Open is the declaration that was packed.
func (in Packed) Open() (*declared.Declaration, error) {
	d := &declared.Declaration{Tag: in.Tag, Waits: in.Waits, Revision: in.Revision, Inputs: in.Inputs, Form: in.Form, Chart: in.Chart, Notes: in.Notes, Head: in.Head, Snapshot: in.Snapshot, Files: in.Rules, Findings: in.Findings, Judged: in.Judged, Scaled: map[object.Ref]string{}}
	var files []repo.File
	for _, f := range in.Rules {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	var err error
	if d.Rules, d.Checks, err = render.Shared(files); err != nil {
		return nil, err
	}
	for _, x := range in.Scaled {
		ref, err := object.ParseKey(x.Key)
		if err != nil {
			return nil, err
		}
		d.Scaled[ref] = x.Name
	}
	objects := make([]declared.Object, len(in.Objects))
	for i, o := range in.Objects {
		ref, err := object.ParseKey(o.Key)
		if err != nil {
			return nil, err
		}
		objects[i] = declared.Object{Declared: plan.Declared{Ref: ref, Hash: o.Hash, Turn: o.Turn, Secrets: o.Secrets}, Version: o.Version, File: o.File, Line: o.Line}
	}
	d.Take(objects)
	return d, nil
}
