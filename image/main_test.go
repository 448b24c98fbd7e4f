package main

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALayerIsTheSameEveryTime: whatever order its files came in, and it is whole.
func TestALayerIsTheSameEveryTime(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	make := func(backwards bool) []byte {
		f := newFiles(at)
		puts := []func(){
			func() { f.file("usr/share/ca-certificates/b.crt", 0o644, []byte("two\n")) },
			func() { f.file("./usr/share/ca-certificates/a.crt", 0o644, []byte("one")) },
			func() { f.dir("data", 0o700, user) },
			func() {
				f.put(tar.Header{Typeflag: tar.TypeSymlink, Name: "/bin", Linkname: "usr/bin", Uname: "somebody", ModTime: time.Now()}, nil)
			},
			func() { f.file("../../etc/passwd", 0o644, []byte("x")) },
			func() { f.file("/", 0o644, nil) },
		}
		for i := range puts {
			if backwards {
				i = len(puts) - 1 - i
			}
			puts[i]()
		}
		f.authorities()
		out, err := f.tar()
		require.NoError(t, err)
		return out
	}
	a := make(false)
	assert.Equal(t, a, make(true))
	var names []string
	r := tar.NewReader(bytes.NewReader(a))
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		names = append(names, h.Name)
		assert.Equal(t, at, h.ModTime.UTC(), h.Name)
		assert.Empty(t, h.Uname)
		body, err := io.ReadAll(r)
		require.NoError(t, err)
		if h.Name == "etc/ssl/certs/ca-certificates.crt" {
			assert.Equal(t, "one\ntwo\n", string(body))
		}
	}
	assert.Equal(t, []string{"bin", "data/", "etc/passwd", "etc/ssl/certs/ca-certificates.crt", "usr/share/ca-certificates/a.crt", "usr/share/ca-certificates/b.crt"}, names)
	assert.Zero(t, len(a)%512, "it ends as an archive does")
}

func TestWhatNobodyReads(t *testing.T) {
	for name, want := range map[string]bool{"usr/share/man/man1/git.1.gz": true, "usr/share/doc/git/README": true, "usr/share/doc/git/copyright": false, "usr/bin/git": false, "usr/share/locale/de/x.mo": true} {
		assert.Equal(t, want, unwanted(name), name)
	}
}
