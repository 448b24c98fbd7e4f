package bounded

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnAnswerIsReadAsFarAsItMayBeLong(t *testing.T) {
	for length, whole := range map[int]bool{0: true, 1: true, 9: true, 10: true, 11: false, 1000: false} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, strings.Repeat("x", length)) }))
		client := &http.Client{Transport: Transport(http.DefaultTransport, 10)}
		for _, slowly := range []bool{false, true} {
			r, err := client.Get(server.URL)
			require.NoError(t, err)
			in := io.Reader(r.Body)
			if slowly {
				in = iotest.OneByteReader(in)
			}
			got, err := io.ReadAll(in)
			assert.Len(t, got, min(length, 10), "%d bytes", length)
			if whole {
				assert.NoError(t, err, "%d bytes", length)
			} else {
				assert.EqualError(t, err, "the answer has more than 10 bytes", "%d bytes", length)
				_, err = in.Read(make([]byte, 4))
				assert.Error(t, err, "and it stays so")
			}
			assert.NoError(t, r.Body.Close())
		}
		server.Close()
	}
}

func TestWhatIsToldOn(t *testing.T) {
	assert.Equal(t, "short", Text("short"))
	assert.Equal(t, strings.Repeat("å", 150)+"…", Text(strings.Repeat("å", 151)), "no letter is cut in two")
	assert.Equal(t, "x"+strings.Repeat("å", 149)+"…", Text("x"+strings.Repeat("å", 151)))
	assert.Equal(t, []string{"404 Not Found", "299"}, []string{Status(404), Status(299)})
}

func TestAConnectionIsReadAsFarAsItMaySay(t *testing.T) {
	for length, whole := range map[int]bool{10: true, 11: false} {
		here, there := net.Pipe()
		go func() {
			_, _ = io.WriteString(there, strings.Repeat("x", length))
			_ = there.Close()
		}()
		got, err := io.ReadAll(Conn(here, 10))
		assert.Len(t, got, 10)
		assert.Equal(t, whole, err == nil, "%v", err)
		_ = here.Close()
	}
}
