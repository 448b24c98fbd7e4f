package versions

import (
	"bytes"
	"fmt"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// Set is the text of a versions file with the version of one image changed, or added; what else it says, and its comments, stay. An
// empty text is a new file.
func Set(file string, text []byte, image string, to Image) ([]byte, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		text = []byte("vigila: " + Format + "\nimages: {}\n")
	}
	f, err := Parse(file, text)
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, &object.SyntaxError{File: file, Line: 1, Text: "this is not valid YAML"}
	}
	_, written, ok := f.Find(image)
	if !ok {
		written = image
	}
	top := root.Content[0]
	images := valueOf(top, "images")
	if images == nil {
		images = &yaml.Node{Kind: yaml.MappingNode}
		top.Content = append(top.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "images"}, images)
	}
	value := valueOf(images, written)
	if value == nil {
		value = &yaml.Node{}
		images.Style = 0 // as lines
		images.Content = append(images.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: written}, value)
	}
	comments := [3]string{value.HeadComment, value.LineComment, value.FootComment}
	*value = yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle, HeadComment: comments[0], LineComment: comments[1], FootComment: comments[2]}
	for _, x := range [][2]string{{"tag", to.Tag}, {"digest", to.Digest}} {
		if x[1] != "" {
			v := &yaml.Node{}
			v.SetString(x[1])
			value.Content = append(value.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: x[0]}, v)
		}
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(&root); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	after, err := Parse(file, out.Bytes()) // what is written is what is meant
	if err != nil {
		return nil, err
	}
	if im, _, ok := after.Find(image); !ok || im.Tag != to.Tag || im.Digest != to.Digest {
		return nil, fmt.Errorf("%s: the version of %s can't be written into it", file, image)
	}
	return out.Bytes(), nil
}

func valueOf(m *yaml.Node, key string) *yaml.Node {
	for i := 0; m.Kind == yaml.MappingNode && i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}
