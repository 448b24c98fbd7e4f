package repo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"vigila.dev/vigila/internal/bounded"
)

// pointer is a file that stands for a large one. Format: the pointer file and the batch API of Git LFS,
// https://github.com/git-lfs/git-lfs/blob/main/docs/spec.md
var pointer = regexp.MustCompile(`\Aversion https://git-lfs\.github\.com/spec/v1\n(?:ext-.*\n)*oid sha256:([0-9a-f]{64})\nsize ([0-9]+)\n?\z`)

func isPointer(data []byte) bool {
	return len(data) < 1024 && bytes.HasPrefix(data, []byte("version https://git-lfs")) && pointer.Match(data)
}

// Partial tells whether the mirror holds files only once they were read.
func (m *Mirror) partial() bool {
	packs, _ := filepath.Glob(filepath.Join(m.dir, "objects", "pack", "*.promisor"))
	return len(packs) > 0
}

// large reads the file that a pointer stands for: from the mirror, else from the server.
func (m *Mirror) large(at string, data []byte) ([]byte, error) {
	found := pointer.FindSubmatch(data)
	oid := string(found[1])
	size, err := strconv.Atoi(string(found[2]))
	s := m.source
	switch {
	case err != nil || size > maxFile:
		return nil, fmt.Errorf("%s: %s stands for a file of %s bytes; the most is %d", m.Name(), at, found[2], maxFile)
	case !s.LargeFiles:
		return nil, fmt.Errorf("%s: %s is only a pointer to a large file, and those of %s are not followed; put the file itself there, or follow them: vigila repo add %s %s --follow large-files", m.Name(), at, m.Name(), m.Name(), s.URL)
	case !strings.HasPrefix(s.URL, "http"):
		return nil, fmt.Errorf("%s: %s is a pointer to a large file, and those are followed over HTTPS alone", m.Name(), at)
	}
	file := filepath.Join(m.dir, "large", oid)
	if b, err := os.ReadFile(file); err == nil && digest(b) == oid {
		return b, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	b, err := fetchLarge(ctx, s, oid, size)
	if err != nil {
		return nil, fmt.Errorf("%s: the large file %s can't be fetched: %w", m.Name(), at, err)
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	return b, os.WriteFile(file, b, 0o600)
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func fetchLarge(ctx context.Context, s Source, oid string, size int) ([]byte, error) {
	c, err := client(s)
	if err != nil {
		return nil, err
	}
	const media = "application/vnd.git-lfs+json"
	base := strings.TrimSuffix(strings.TrimSuffix(s.URL, "/"), ".git")
	ask, err := json.Marshal(map[string]any{"operation": "download", "transfers": []string{"basic"}, "objects": []any{map[string]any{"oid": oid, "size": size}}})
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, base+".git/info/lfs/objects/batch", bytes.NewReader(ask))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", media)
	r.Header.Set("Content-Type", media)
	authorize(r, s)
	res, err := c.Do(r)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server answers %s", bounded.Status(res.StatusCode))
	}
	var answer struct {
		Objects []struct {
			Actions struct {
				Download struct {
					Href   string            `json:"href"`
					Header map[string]string `json:"header"`
				} `json:"download"`
			} `json:"actions"`
			Error struct {
				Message string `json:"message"`
			} `json:"error"`
		} `json:"objects"`
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&answer); err != nil {
		return nil, fmt.Errorf("the server's answer can't be read: %w", err)
	}
	if len(answer.Objects) != 1 || answer.Objects[0].Actions.Download.Href == "" {
		why := "the server does not have it"
		if len(answer.Objects) == 1 && answer.Objects[0].Error.Message != "" {
			why = "the server says: " + answer.Objects[0].Error.Message
		}
		return nil, fmt.Errorf("%s", why)
	}
	get := answer.Objects[0].Actions.Download
	r, err = http.NewRequestWithContext(ctx, http.MethodGet, get.Href, nil)
	if err != nil {
		return nil, err
	}
	for k, v := range get.Header {
		r.Header.Set(k, v)
	}
	if strings.HasPrefix(get.Href, base) && r.Header.Get("Authorization") == "" {
		authorize(r, s)
	}
	res, err = c.Do(r)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server answers %s", bounded.Status(res.StatusCode))
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, maxFile+1))
	if err != nil {
		return nil, err
	}
	if digest(b) != oid {
		return nil, fmt.Errorf("what the server sent is not what the pointer asks for")
	}
	return b, nil
}
