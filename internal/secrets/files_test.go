package secrets

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folder are the files of a directory. Those of testdata were made with the format's own library.
type folder string

func (f folder) Read(_ context.Context, path string) ([]byte, string, error) {
	b, err := os.ReadFile(filepath.Join(string(f), path))
	if os.IsNotExist(err) {
		return nil, "", ErrNone
	}
	return b, "1", err
}
func (f folder) Try(context.Context) error { return nil }
func (f folder) Where(path string) string  { return "secrets/" + path + " of moorings" }
func key(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile("testdata/key.txt")
	require.NoError(t, err)
	return string(b)
}

func TestFilesThatTheFormatsOwnLibraryWrote(t *testing.T) {
	s, err := NewFiles("harbour", key(t), folder("testdata"))
	require.NoError(t, err)
	for path, want := range map[string]map[string]string{
		"plain":  {"password": "berth of the tide", "port": "5432", "ratio": "1.5", "lit": "True", "empty": "", "since": "2026-11-20T06:00:00Z", "note_unencrypted": "open", "nested.deep": "two"},
		"secret": {"apiVersion": "v1", "kind": "Secret", "metadata.name": "gate", "stringData.password": "berth of the tide", "stringData.pem": "one\ntwo\n"},
		"only":   {"open_unencrypted": "yes indeed", "password": "berth of the tide"},
		"gate":   {"password": "berth of the tide", "port": "5432", "nested.deep": "two"},
	} {
		v, err := s.Read(t.Context(), path)
		require.NoError(t, err, path)
		assert.Equal(t, want, v.Keys, path)
	}
	_, err = s.Read(t.Context(), "nothing")
	require.ErrorIs(t, err, ErrNone)
	require.ErrorContains(t, s.Set(t.Context(), "plain", "password", "x"), "set it in secrets/plain.yaml of moorings, encrypted, and push")
	_, err = NewFiles("harbour", "AGE-SECRET-KEY-1", folder("."))
	require.ErrorContains(t, err, "its key is none of age")
}

// TestFilesThatSomebodyHasTouched are told, with no value in the words.
func TestFilesThatSomebodyHasTouched(t *testing.T) {
	plain, err := os.ReadFile("testdata/plain.yaml")
	require.NoError(t, err)
	rows := strings.Split(string(plain), "\n")
	row := func(begins string) string {
		for _, r := range rows {
			if strings.HasPrefix(strings.TrimSpace(r), begins) {
				return r
			}
		}
		t.Fatal(begins)
		return ""
	}
	for name, c := range map[string]struct {
		change func(string) string
		says   string
	}{
		"an open value is another": {func(s string) string {
			return strings.Replace(s, "note_unencrypted: open", "note_unencrypted: shut", 1)
		}, "its MAC is another"},
		"a value is gone":             {func(s string) string { return strings.Replace(s, row("port: ")+"\n", "", 1) }, "its MAC is another"},
		"a value is at another key":   {func(s string) string { return strings.Replace(s, "port: ", "sport: ", 1) }, "sport: it was not encrypted here"},
		"a value is written as it is": {func(s string) string { return strings.Replace(s, row("password: "), "password: berth of the tide!", 1) }, "its MAC is another"},
		"a value is broken": {func(s string) string {
			return strings.Replace(s, "port: ENC[AES256_GCM,data:", "port: ENC[AES256_GCM,data:%", 1)
		}, "port: it is no encrypted value"},
		"the MAC is gone":           {func(s string) string { return strings.Replace(s, row("mac: "), "", 1) }, "its MAC is another"},
		"it is not encrypted":       {func(s string) string { return s[:strings.Index(s, "sops:")] }, "it is not encrypted"},
		"it is nothing":             {func(string) string { return "" }, "can't be read"},
		"it is a list":              {func(string) string { return "- a" }, "no mapping"},
		"there are two":             {func(s string) string { return s + "---\na: b\n" }, "more than one document"},
		"it is encrypted to nobody": {func(s string) string { return strings.Replace(s, "    age:", "    pgp:", 1) }, "to no age key"},
		"it is encrypted to groups": {func(s string) string { return s + "    key_groups: [{a: b}]\n" }, "groups of keys"},
		"an alias":                  {func(s string) string { return strings.Replace(s, "nothing: null", "nothing: &x y\nmore: *x", 1) }, "alias"},
	} {
		dir := t.TempDir()
		now := c.change(string(plain))
		require.NotEqual(t, string(plain), now, name)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "plain.yaml"), []byte(now), 0o600))
		s, err := NewFiles("harbour", key(t), folder(dir))
		require.NoError(t, err)
		_, err = s.Read(t.Context(), "plain")
		require.ErrorContains(t, err, c.says, name)
		assert.Contains(t, err.Error(), "secrets/plain.yaml of moorings")
		assert.False(t, bytes.Contains([]byte(err.Error()), []byte("berth of")), name)
	}
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	s, err := NewFiles("harbour", other.String(), folder("testdata"))
	require.NoError(t, err)
	_, err = s.Read(t.Context(), "plain")
	require.ErrorContains(t, err, "other keys than the store's")
}
