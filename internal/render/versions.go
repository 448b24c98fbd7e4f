package render

import (
	"fmt"
	"maps"
	"path"
	"slices"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/versions"
)

// Unused is a version that nothing which a ward renders is of.
type Unused struct {
	File string
	Line int
	What string // the image or the chart
}

// laid are the versions files of a ward.
type laid struct {
	files []*versions.File
	all   *versions.File
	chart string // whose version they say
}

// lay reads the versions files of a ward, and gives its packaged chart the version that they say.
func lay(tree *reader, r *Request, out *Result) (l laid, err error) {
	for _, v := range r.Ward.From.Versions {
		data, at, err := otherFile(tree, *r, v, "versions", out)
		if err != nil {
			return l, err
		}
		if !versions.Is(data) {
			return l, &object.SyntaxError{File: at, Line: 1, Text: "this is no versions file; its first key is vigila: " + versions.Format}
		}
		f, err := versions.Parse(at, data)
		if err != nil {
			return l, err
		}
		l.files = append(l.files, f)
	}
	l.all = versions.Over(l.files...)
	if c, ok := l.all.Charts[r.Ward.From.Chart.Name]; ok {
		l.chart = r.Ward.From.Chart.Name
		r.Ward.From.Chart.Version = c.Version
	}
	return l, nil
}

// over lays them over what was rendered, and notes what of them means nothing here.
func (l laid) over(out *Result) {
	if len(l.files) == 0 {
		return
	}
	used := l.all.Lay(out.Objects)
	for _, f := range l.files {
		some := false
		for _, name := range slices.Sorted(maps.Keys(f.Images)) {
			_, written, _ := l.all.Find(name)
			if slices.Contains(used, written) {
				some = true
				continue
			}
			out.Unused = append(out.Unused, Unused{f.Images[name].File, f.Images[name].Line, "image " + name})
		}
		for _, name := range slices.Sorted(maps.Keys(f.Charts)) {
			if name == l.chart {
				some = true
				continue
			}
			out.Unused = append(out.Unused, Unused{f.Charts[name].File, f.Charts[name].Line, "packaged chart " + name})
		}
		if n := len(out.Unused); !some && n > 0 {
			out.Notes = append(out.Notes, fmt.Sprintf("%s says versions of nothing that is declared here", path.Base(out.Unused[n-1].File)))
		}
	}
}
