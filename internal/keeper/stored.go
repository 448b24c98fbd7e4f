package keeper

import (
	"context"
	"errors"
	"fmt"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// storedForm changes whenever rendering gives other objects for the same files, or the form below is another.
const storedForm = "2"

// stored is a declaration as the record keeps it.
type stored struct {
	Inputs   []render.Input   `json:"inputs"`
	Form     string           `json:"form"`
	Chart    string           `json:"chart,omitempty"`
	Notes    []string         `json:"notes,omitempty"`
	Head     string           `json:"head,omitempty"`
	Revision record.Revision  `json:"revision"`
	Snapshot string           `json:"snapshot"`
	Rules    []record.File    `json:"rules,omitempty"`
	Scaled   []storedPair     `json:"scaled,omitempty"`
	Objects  []storedDeclared `json:"objects"`
}

type storedPair struct {
	Key  string `json:"key"`
	Name string `json:"name"`
}

type storedDeclared struct {
	Key     string      `json:"key"`
	Hash    string      `json:"hash"`
	Version string      `json:"version"`
	File    string      `json:"file,omitempty"`
	Line    int         `json:"line,omitempty"`
	Turn    object.Turn `json:"turn,omitzero"`
}

// storedKey names everything beside the tree that a declaration depends on.
func (p *placement) storedKey() string {
	var rules []any
	for _, f := range p.rosterRules() {
		rules = append(rules, f.Path, string(f.Data))
	}
	return object.Hash([]any{storedForm, p.file, p.repo.name, fmt.Sprint(p.cluster.labels()), fmt.Sprint(p.limits), rules})
}

func (p *placement) storeDeclaration(ctx context.Context, d *declaration) error {
	out := stored{Inputs: d.inputs, Form: d.form, Chart: d.chart, Notes: d.notes, Head: d.head, Revision: d.revision, Snapshot: d.snapshot, Rules: d.files, Objects: make([]storedDeclared, len(d.objects))}
	for ref, name := range d.scaled {
		out.Scaled = append(out.Scaled, storedPair{ref.Key(), name})
	}
	for i, o := range d.objects {
		out.Objects[i] = storedDeclared{Key: o.Ref.Key(), Hash: o.Hash, Version: o.version, File: o.file, Line: o.line, Turn: o.Turn}
	}
	return p.k.store.PutDeclaration(ctx, p.id, p.storedKey(), out)
}

// storedDeclaration is what the repository declared before the service started; nil when that is not known, or the
// ward file was another.
func (p *placement) storedDeclaration(ctx context.Context) (*declaration, error) {
	var in stored
	err := p.k.store.Declaration(ctx, p.id, p.storedKey(), &in)
	if errors.Is(err, record.ErrNone) {
		return nil, nil
	}
	if err != nil {
		p.log.Warn("what was declared can't be read any more; it is rendered again", "error", err)
		return nil, nil
	}
	d := &declaration{revision: in.Revision, inputs: in.Inputs, form: in.Form, chart: in.Chart, notes: in.Notes, head: in.Head, snapshot: in.Snapshot, files: in.Rules, scaled: map[object.Ref]string{}}
	var files []repo.File
	for _, f := range in.Rules {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	if d.rules, err = render.Rules(files); err != nil {
		return nil, nil
	}
	for _, x := range in.Scaled {
		ref, err := object.ParseKey(x.Key)
		if err != nil {
			return nil, err
		}
		d.scaled[ref] = x.Name
	}
	objects := make([]declaredObject, len(in.Objects))
	for i, o := range in.Objects {
		ref, err := object.ParseKey(o.Key)
		if err != nil {
			return nil, err
		}
		objects[i] = declaredObject{Declared: plan.Declared{Ref: ref, Hash: o.Hash, Turn: o.Turn}, version: o.Version, file: o.File, line: o.Line}
	}
	d.take(objects)
	return d, nil
}

// share lets a declaration use the texts that the baselines hold already: thousands of objects name the same kinds,
// namespaces and files, and nearly all of them have the hash that was applied.
func (d *declaration) share(baselines map[object.Ref]compare.Baseline) {
	texts := map[string]string{}
	one := func(s *string) {
		if t, ok := texts[*s]; ok {
			*s = t
		} else {
			texts[*s] = *s
		}
	}
	for i := range d.objects {
		o := &d.objects[i]
		if b, kept := baselines[o.Ref]; kept {
			o.Ref = b.Ref
			if o.Hash == b.Declared {
				o.Hash = b.Declared
			}
		}
		for _, s := range []*string{&o.Ref.Group, &o.Ref.Kind, &o.Ref.Namespace, &o.version, &o.file} {
			one(s)
		}
	}
}
