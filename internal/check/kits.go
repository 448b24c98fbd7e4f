package check

import (
	"fmt"
	"strings"

	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// kit checks a kit: its file, the files that it makes things of, and what it makes of its own examples.
func (c *checker) kit(f repo.File) {
	k, err := kit.Parse(f.Path, f.Data)
	c.add("ward", f.Path, err)
	if err != nil {
		return
	}
	c.known = append(c.known, k)
	var files []kit.File
	for _, x := range c.ofKits {
		if strings.HasPrefix(x.Path, k.Dir+"/") {
			files = append(files, kit.File{Path: x.Path, Data: x.Data})
			c.out.Files++
		}
	}
	err = k.Probe(files)
	c.add("ward", f.Path, err)
	if err != nil || k.Switch != nil {
		return
	}
	given := k.Example()
	values, mistakes, err := k.Complete(given)
	c.add("ward", f.Path, err)
	for _, m := range mistakes {
		c.add("ward", f.Path, &object.SyntaxError{File: f.Path, Line: k.Line, Text: fmt.Sprintf("its own examples and defaults don't fit: %s%s", strings.Join(m.At, "."), m.Text)})
	}
	if err != nil || len(mistakes) > 0 {
		return
	}
	made, err := k.Make(values, given, files, strings.Repeat("0", 40))
	c.add("ward", f.Path, err)
	if err != nil {
		return
	}
	for _, x := range made.Files {
		if !ward.IsRoster(x.Data) {
			continue
		}
		if _, err := ward.ParseDeclared(ward.From{Repo: home, Ref: "main"}, x.Path, x.Data); err != nil {
			c.add("ward", f.Path, &object.SyntaxError{File: f.Path, Line: k.Line, Text: fmt.Sprintf("what it makes of its examples can't be read: %v", err)})
		}
	}
}

// components checks a file that switches components, and gives the wards of those that are on.
func (c *checker) components(f repo.File, labels map[string]map[string]string) (out []ward.Ward) {
	all, err := kit.ParseComponents(f.Path, f.Data)
	c.add("ward", f.Path, err)
	for _, x := range all {
		made, err := x.Wards(c.known)
		c.add("ward", f.Path, err)
		for _, w := range made {
			d, err := ward.ParseDeclared(ward.From{Repo: home, Ref: "main"}, f.Path, w.Text)
			if err != nil {
				c.add("ward", f.Path, &object.SyntaxError{File: f.Path, Line: w.Line, Text: fmt.Sprintf("what kit %s says of its ward: %v", strings.TrimSuffix(w.Name, "-"+x.Name), err)})
				continue
			}
			d.Wards[0].Line, d.Wards[0].Keys = w.Line, nil
			out = append(out, d.Wards...)
		}
		for _, err := range x.Misfits(c.known, labels) {
			c.add("ward", f.Path, err)
		}
	}
	return out
}
