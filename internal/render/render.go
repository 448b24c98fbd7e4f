// Package render turns what a ward comes from into declared objects: plain files, overlays, charts and templates.
// Start with Render.
package render

import (
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// Wanted tells whether a file is read at all: YAML and JSON.
func Wanted(name string) bool {
	switch path.Ext(name) {
	case ".yaml", ".yml", ".json":
		return true
	}
	return false
}

// RulesDir is the directory at the root of a repository whose health and checks files hold for every ward from it.
const RulesDir = ".vigila"

// Rules reads the health files among some files; all else is passed over. Two rules for one kind are an error.
func Rules(files []repo.File) (health.Rules, error) {
	out := health.Rules{}
	var errs []error
	for _, f := range files {
		if !health.IsRules(f.Data) {
			continue
		}
		rules, mistakes := health.ParseRules(f.Path, f.Data)
		errs = append(errs, mistakes...)
		for _, r := range rules {
			k := [2]string{r.Group, r.Kind}
			if first := out[k]; first != nil {
				errs = append(errs, fmt.Errorf("%s: there is a health rule for %s already, at %s", r.At, r.Kind, first.At))
			}
			out[k] = r
		}
	}
	return out, errors.Join(errs...)
}

// IsShared tells whether a file holds what wards share: health rules, or checks of canaries.
func IsShared(data []byte) bool { return health.IsRules(data) || ward.IsChecks(data) }

// Shared reads the health and checks files among some files; all else is passed over. What comes twice is an error.
func Shared(files []repo.File) (health.Rules, []ward.Check, error) {
	rules, err := Rules(files)
	errs := []error{err}
	var checks []ward.Check
	for _, f := range files {
		if ward.IsChecks(f.Data) {
			more, err := ward.ParseChecks(f.Path, f.Data)
			errs = append(errs, err)
			checks = append(checks, more...)
		}
	}
	errs = append(errs, ward.Twice(checks))
	return rules, checks, errors.Join(errs...)
}

// InKit tells of files whether they are part of a kit among them: what a kit makes things of declares nothing by itself.
func InKit(files []repo.File) func(file string) bool {
	all := make([]kit.File, len(files))
	for i, f := range files {
		all[i] = kit.File{Path: f.Path, Data: f.Data}
	}
	dirs := kit.Dirs(all)
	return func(file string) bool { return kit.Within(dirs, file) }
}

// Plain reads every object of plain manifests. Ward files, health files, rulebooks and kits among them are passed over. Every
// mistake is reported at once, with file and line.
func Plain(files []repo.File) ([]object.Object, error) {
	var out []object.Object
	var errs []error
	rules, kits := InRulebook(files), InKit(files)
	for _, f := range files {
		if rules(f.Path) || kits(f.Path) {
			continue
		}
		switch base := path.Base(f.Path); {
		case slices.Contains(overlayFiles, base):
			errs = append(errs, &object.SyntaxError{File: f.Path, Line: 1, Text: "this is an overlay below plain files; point from.path at " + path.Dir(f.Path) + ", or leave it out with from.exclude"})
			continue
		case base == chartFile:
			errs = append(errs, &object.SyntaxError{File: f.Path, Line: 1, Text: "this is a chart below plain files; point from.path at " + path.Dir(f.Path) + ", or leave it out with from.exclude"})
			continue
		}
		if object.FirstKey(f.Data, "vigila", "") { // a file of Vigila's own: a ward, a health rule
			continue
		}
		objects, err := object.Parse(f.Path, f.Data)
		errs = append(errs, err)
		out = append(out, objects...)
	}
	out, err := collect(out)
	errs = append(errs, err)
	return out, errors.Join(errs...)
}

// Place completes objects for one ward in one cluster: the ward's namespace where none is named, its mark, and
// its own namespace when it keeps one. service is the id of the service that keeps them. namespaced tells whether a kind lives in namespaces; an unknown kind is
// an error that Place reports with file and line.
func Place(w ward.Ward, service string, objects []object.Object, namespaced func(o object.Object) (bool, error)) ([]object.Object, error) {
	var errs []error
	out := make([]object.Object, 0, len(objects)+1)
	own := false
	for _, o := range objects {
		inNamespace, err := namespaced(o)
		if err != nil {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: err.Error()})
			continue
		}
		o.Body = object.Clone(o.Body)
		meta, _ := o.Body["metadata"].(map[string]any)
		switch {
		case !inNamespace && o.Ref.Namespace != "": // the API server's clients pass it over
			o.Ref.Namespace = ""
			delete(meta, "namespace")
		case inNamespace && o.Ref.Namespace == "":
			if w.Into.Namespace == "" {
				errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s names no namespace, and neither does the ward; write metadata.namespace here or into.namespace in the ward file", o.Ref.Short())})
				continue
			}
			o.Ref.Namespace = w.Into.Namespace
			meta["namespace"] = w.Into.Namespace
		}
		own = own || o.Ref == object.Ref{Kind: "Namespace", Name: w.Into.Namespace}
		wrong := misnamed(o)
		if o.Ref.Secret() {
			wrong = append(append(wrong, mistaken(o.Body)...), secret.Wrong(o)...)
		}
		for _, what := range wrong {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s: %s", o.Ref.Short(), what)})
		}
		if mark(meta, w.Name, service); o.Ref.Secret() && len(wrong) == 0 {
			foldStringData(o.Body)
		}
		out = append(out, o)
	}
	if w.Into.CreateNamespace && !own {
		meta := map[string]any{"name": w.Into.Namespace}
		mark(meta, w.Name, service)
		out = append(out, object.Object{Ref: object.Ref{Kind: "Namespace", Name: w.Into.Namespace}, Version: "v1",
			Body: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": meta}})
	}
	if w.Keep.Restart == ward.OnSecrets {
		secret.Restarts(out)
	}
	seen := map[object.Ref]object.Object{}
	for _, o := range out {
		if first, twice := seen[o.Ref]; twice {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s is declared twice once the ward's namespace is filled in; first at %s", o.Ref, first.At())})
		}
		seen[o.Ref] = o
	}
	return out, errors.Join(errs...)
}

// secretKey is what a key of a Secret may be.
// Source: https://kubernetes.io/docs/concepts/configuration/secret/#restriction-names-data
var secretKey = regexp.MustCompile(`^[-._a-zA-Z0-9]{1,253}$`)

// mistaken lists what of a Secret the API server would refuse, without its values: its own refusal quotes them.
func mistaken(body map[string]any) (out []string) {
	for _, field := range []string{"data", "stringData"} {
		values, ok := body[field].(map[string]any)
		if !ok && body[field] != nil {
			out = append(out, field+" must be a mapping of names to values")
		}
		for _, key := range slices.Sorted(maps.Keys(values)) {
			v := values[key]
			text, is := v.(string)
			switch {
			case !secretKey.MatchString(key):
				out = append(out, fmt.Sprintf("%s has a key that is none: at most 253 letters, digits, '-', '_' and '.'", field))
			case v == nil:
			case !is:
				out = append(out, fmt.Sprintf("%s.%s is no text; put its value in quotes", field, key))
			case field == "data" && !secret.Folded(text):
				if _, err := base64.StdEncoding.DecodeString(text); err != nil {
					out = append(out, fmt.Sprintf("data.%s is not in base64; write it as it is below stringData instead", key))
				}
			}
		}
	}
	if _, ok := body["type"].(string); !ok && body["type"] != nil {
		out = append(out, "type must be a text")
	}
	if _, ok := body["immutable"].(bool); !ok && body["immutable"] != nil {
		out = append(out, "immutable must be true or false")
	}
	return out
}

// foldStringData writes a Secret's stringData into data, as the API server does: stringData is write-only there,
// so that its fields could never be compared. Source: https://kubernetes.io/docs/concepts/configuration/secret/
func foldStringData(body map[string]any) {
	data, _ := body["data"].(map[string]any)
	for k, v := range data {
		if text, ok := v.(string); ok && secret.Folded(text) { // a reference, as it is
			data[k] = base64.StdEncoding.EncodeToString([]byte(text))
		}
	}
	texts, ok := body["stringData"].(map[string]any)
	if !ok {
		return
	}
	if data == nil {
		data = map[string]any{}
	}
	for k, v := range texts {
		text, _ := v.(string) // none is an empty one
		data[k] = base64.StdEncoding.EncodeToString([]byte(text))
	}
	delete(body, "stringData")
	body["data"] = data
}

func mark(meta map[string]any, name, service string) {
	notes, ok := meta["annotations"].(map[string]any)
	if !ok {
		notes = map[string]any{}
		meta["annotations"] = notes
	}
	notes[object.ServiceAnnotation] = service
	labels, ok := meta["labels"].(map[string]any)
	if !ok {
		labels = map[string]any{}
		meta["labels"] = labels
	}
	labels[object.WardLabel] = name
	delete(meta, "managedFields")
	for _, k := range []string{"resourceVersion", "uid", "creationTimestamp", "generation"} {
		delete(meta, k) // of an exported object: the API server refuses them, or they mean nothing
	}
}
