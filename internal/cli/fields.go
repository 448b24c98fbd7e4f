package cli

import (
	"strings"
	"unicode/utf8"

	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/visible"
)

// change is a field with its values, and who made it so.
type change struct {
	path   string
	values []side
	note   string
}

// side is one of the values of a field. In a row its label stands before it where it has one.
type side struct {
	label string // what it is: applied, live; "" where an arrow tells that
	value any
	none  bool // there is nothing
	color string
}

// between is a change from one value to another.
func between(path string, from any, added bool, to any, removed bool) change {
	return change{path: path, values: []side{{value: from, none: added}, {value: to, none: removed, color: "behind"}}}
}

func (s side) text() string {
	text := "nothing"
	if !s.none {
		text = value(s.value)
	}
	return strings.TrimSpace(s.label + " " + text)
}

// longest is how long a value may be that stands in a row with others; what is longer, has lines or a structure stands on lines of its own.
const longest = 72

// block is a value on lines of its own; nil for one that fits into a row.
func (s side) block() []string {
	if s.none {
		return nil
	}
	switch v := s.value.(type) {
	case string:
		if strings.Contains(v, "\n") {
			return strings.Split(strings.TrimSuffix(v, "\n"), "\n")
		}
		if utf8.RuneCountInString(v) > longest {
			return []string{v}
		}
	case map[string]any, []any:
		if utf8.RuneCountInString(value(v)) > longest {
			if b, err := yaml.Marshal(v); err == nil {
				return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
			}
		}
	}
	return nil
}

func (c change) wide() bool {
	for _, s := range c.values {
		if s.block() != nil {
			return true
		}
	}
	return false
}

func (c change) row(indent string) []cell {
	row := []cell{plain(indent + c.path)}
	for i, s := range c.values {
		if i > 0 && s.label == "" {
			row = append(row, cell{"→", "soft"})
		}
		row = append(row, cell{visible.Line(s.text()), s.color})
	}
	if c.note != "" {
		row = append(row, plain(c.note))
	}
	return row
}

// changes prints fields with their values, which are never cut: one a row; where a value does not fit, or a terminal is too narrow for
// columns, they stand below their field.
func (p *printer) changes(indent string, all []change) {
	var rows [][]cell
	for _, c := range all {
		if !c.wide() {
			rows = append(rows, c.row(indent))
		}
	}
	widths := widthsOf(rows)
	total := -2
	for _, w := range widths {
		total += w + 2
	}
	for _, c := range all {
		if c.wide() {
			p.whole(indent, c)
			continue
		}
		row := c.row(indent)
		if p.width == 0 || total <= p.width {
			p.columns([][]cell{row}, widths, 0)
			continue
		}
		p.line("%s", p.paint(row[0].color, row[0].text))
		var values []string
		for _, c := range row[1:] {
			values = append(values, p.paint(c.color, c.text))
		}
		p.line("%s  %s", indent, strings.Join(values, "  "))
	}
}

// whole prints a field whose values have lines of their own.
func (p *printer) whole(indent string, c change) {
	head := visible.Line(c.path)
	if c.note != "" {
		head += "  " + visible.Line(c.note)
	}
	p.line("%s%s", indent, head)
	for i, s := range c.values {
		label := s.label
		if label == "" && len(c.values) > 1 {
			label = pick(i == 0, "from", "to")
		}
		lines := s.block()
		if lines == nil {
			s.label = label
			p.line("%s  %s", indent, p.paint(s.color, visible.Line(s.text())))
			continue
		}
		inner := indent + "  "
		if label != "" {
			p.line("%s%s", inner, p.paint("soft", label))
			inner += "  "
		}
		for _, l := range lines {
			p.line("%s%s", inner, p.paint(s.color, visible.Line(l)))
		}
	}
}

func widthsOf(rows [][]cell) (widths []int) {
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(c.text))
		}
	}
	return widths
}

// columns prints rows in columns so wide; with a width the last is cut where a line would wrap.
func (p *printer) columns(rows [][]cell, widths []int, width int) {
	for _, r := range rows {
		var b strings.Builder
		used := 0
		for i, c := range r {
			if left := width - used; width > 0 && i == len(r)-1 && left > 1 {
				c.text = clip(c.text, left)
			}
			used += widths[i] + 2
			b.WriteString(p.paint(c.color, c.text))
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c.text)+2))
			}
		}
		p.line("%s", strings.TrimRight(b.String(), " "))
	}
}
