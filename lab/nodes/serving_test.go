package nodes

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

func TestAPodAnswersAsItsImageDoes(t *testing.T) {
	s, err := newServing()
	require.NoError(t, err)
	defer s.server.Close()
	p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Namespace: "n", Name: "gate-1", UID: "u"}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Image: "gate:2"}}}}
	end := s.begin(p, Image{HTTP: &Answers{Codes: map[string]int{"200": 3, "503": 1}, Body: "tides"}})
	get := func(path string) (int, string, http.Header) {
		r, err := http.Get(s.url + path)
		require.NoError(t, err)
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(b), r.Header
	}
	codes := map[int]int{}
	for range 40 {
		code, body, head := get("/pods/n/gate-1/fares/7")
		codes[code]++
		assert.Equal(t, []string{"tides", "gate:2", "gate-1"}, []string{body, head.Get("X-Image"), head.Get("X-Pod")})
	}
	assert.Equal(t, map[int]int{200: 30, 503: 10}, codes)
	_, metrics, _ := get("/pods/n/gate-1/metrics")
	assert.Contains(t, metrics, `http_requests_total{code="503"} 10`)
	_, targets, _ := get("/targets")
	assert.Contains(t, targets, `"__metrics_path__":"/pods/n/gate-1/metrics"`)
	end()
	code, _, _ := get("/pods/n/gate-1/")
	assert.Equal(t, 200, code, "it answers for a while after it was told to end")
	code, _, _ = get("/pods/n/other/")
	assert.Equal(t, http.StatusBadGateway, code)
}
