package rule

import (
	"embed"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
)

// Vigila's own rules, each with its cases beside it.
//
//go:embed ours/*.yaml
var ourFiles embed.FS

// Own are Vigila's own rules by name.
type Own map[string]*Rule

// Load compiles Vigila's own rules, which takes some tenths of a second; what it gives can be used by many at once.
func Load() Own {
	out := Own{}
	for name, data := range OurFiles() {
		if strings.HasSuffix(name, casesSuffix) {
			continue
		}
		rules, err := Parse(name, data)
		if err != nil {
			panic(err) // they are part of the binary
		}
		for _, r := range rules {
			r.File = "" // it is in no repository
			out[r.Name] = r
		}
	}
	return out
}

// OurFiles are the files of Vigila's own rules and of their cases, by name.
func OurFiles() map[string][]byte {
	out := map[string][]byte{}
	entries, err := ourFiles.ReadDir("ours")
	if err != nil {
		panic(err)
	}
	for _, e := range entries {
		data, err := ourFiles.ReadFile("ours/" + e.Name())
		if err != nil {
			panic(err)
		}
		out[e.Name()] = data
	}
	return out
}

// List is all of them, by name.
func (o Own) List() (out []*Rule) {
	for _, name := range slices.Sorted(maps.Keys(o)) {
		out = append(out, o[name])
	}
	return out
}

// Names are the names of Vigila's own rules, sorted.
func Names() (out []string) {
	for file := range OurFiles() {
		if !strings.HasSuffix(file, casesSuffix) {
			out = append(out, strings.TrimSuffix(file, ".yaml"))
		}
	}
	slices.Sort(out)
	return out
}

// OwnHash names Vigila's own rules as they are in this binary.
func OwnHash() string {
	var all []any
	files := OurFiles()
	for _, name := range slices.Sorted(maps.Keys(files)) {
		all = append(all, name, string(files[name]))
	}
	return object.Hash(all)
}
