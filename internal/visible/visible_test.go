package visible

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestWhatATerminalObeysIsWrittenOut(t *testing.T) {
	for in, want := range map[string]string{
		"Prefer leeward berths in a gale":      "Prefer leeward berths in a gale",
		"≠ drifted ● ready ⇄":                  "≠ drifted ● ready ⇄",
		"\x1b[2Kforged":                        `\x1b[2Kforged`,
		"\x1b]52;c;cm0gLXJm\x07":               `\x1b]52;c;cm0gLXJm\x07`,
		"over\rwritten\b\x7f":                  `over\rwritten\x08\x7f`,
		"\u009b31mC1, \u202egnorw\u2066":       `\x9b31mC1, \u202egnorw\u2066`,
		"no UTF-8: \xff\xc3":                   `no UTF-8: \xff\xc3`,
		"lines\nand\ttabs":                     "lines\nand\ttabs",
		"a replacement that was there: \ufffd": "a replacement that was there: \ufffd",
	} {
		assert.Equal(t, want, Text(in))
		assert.True(t, utf8.ValidString(Text(in)))
	}
	assert.Equal(t, `lines\nand\ttabs`, Line("lines\nand\ttabs"))
}
