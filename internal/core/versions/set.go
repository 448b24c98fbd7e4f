package versions

import (
	"bytes"
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// Set is the text of a versions file with the version of one image changed, or added; what else it says, and its comments, stay. An
// empty text is a new file.
func Set(file string, text []byte, image string, to Image) ([]byte, error) {
	out, err := edit(file, text, "images", func(f *File, images *yaml.Node) {
		_, written, ok := f.Find(image)
		if !ok {
			written = image
		}
		value := entry(images, written)
		*value = yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle, HeadComment: value.HeadComment, LineComment: value.LineComment, FootComment: value.FootComment}
		for _, x := range [][2]string{{"tag", to.Tag}, {"digest", to.Digest}} {
			if x[1] != "" {
				v := &yaml.Node{}
				if v.SetString(x[1]); x[0] == "digest" { // as people write them
					v.Style = yaml.DoubleQuotedStyle
				}
				value.Content = append(value.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: x[0]}, v)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	after, err := Parse(file, out) // what is written is what is meant
	if err != nil {
		return nil, err
	}
	if im, _, ok := after.Find(image); !ok || im.Tag != to.Tag || im.Digest != to.Digest {
		return nil, fmt.Errorf("%s: the version of %s can't be written into it", file, image)
	}
	return out, nil
}

// SetChart is Set for the version of a packaged chart.
func SetChart(file string, text []byte, chart, version string) ([]byte, error) {
	out, err := edit(file, text, "charts", func(_ *File, charts *yaml.Node) {
		value := entry(charts, chart)
		comments := [3]string{value.HeadComment, value.LineComment, value.FootComment}
		*value = yaml.Node{}
		value.SetString(version)
		value.HeadComment, value.LineComment, value.FootComment = comments[0], comments[1], comments[2]
	})
	if err != nil {
		return nil, err
	}
	after, err := Parse(file, out)
	if err != nil {
		return nil, err
	}
	if after.Charts[chart].Version != version {
		return nil, fmt.Errorf("%s: the version of chart %s can't be written into it", file, chart)
	}
	return out, nil
}

// Unset is the text of a versions file without the version of an image; what else it says, and its comments, stay.
func Unset(file string, text []byte, image string) ([]byte, error) {
	return edit(file, text, "images", func(f *File, images *yaml.Node) {
		if _, written, ok := f.Find(image); ok {
			drop(images, written)
		}
	})
}

// UnsetChart is Unset for a packaged chart.
func UnsetChart(file string, text []byte, chart string) ([]byte, error) {
	return edit(file, text, "charts", func(_ *File, charts *yaml.Node) { drop(charts, chart) })
}

func drop(m *yaml.Node, key string) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			m.Content = slices.Delete(m.Content, i, i+2)
			return
		}
	}
}

// edit changes one mapping of a versions file, which is made where it is not there.
func edit(file string, text []byte, key string, change func(*File, *yaml.Node)) ([]byte, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		text = []byte("vigila: " + Format + "\n" + key + ": {}\n")
	}
	f, err := Parse(file, text)
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, &object.SyntaxError{File: file, Line: 1, Text: "this is not valid YAML"}
	}
	top := root.Content[0]
	in := valueOf(top, key)
	if in == nil {
		in = &yaml.Node{Kind: yaml.MappingNode}
		top.Content = append(top.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, in)
	}
	change(f, in)
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(&root); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return out.Bytes(), nil
}

// entry is the value of a key, which is made where it is not there.
func entry(in *yaml.Node, key string) *yaml.Node {
	value := valueOf(in, key)
	if value == nil {
		value = &yaml.Node{}
		in.Style = 0 // as lines
		in.Content = append(in.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, value)
	}
	return value
}

func valueOf(m *yaml.Node, key string) *yaml.Node {
	for i := 0; m.Kind == yaml.MappingNode && i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}
