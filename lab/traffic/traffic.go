// Package traffic sends requests to a loopback address at a steady rate, and counts what came back.
package traffic

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"
)

// Count is what has come back so far.
type Count struct {
	Sent   int            `json:"sent"`
	Failed int            `json:"failed"` // no answer, or a status of 500 and above
	Codes  map[string]int `json:"codes"`
	Images map[string]int `json:"images"` // which image has answered
	Why    string         `json:"why,omitempty"`
}

// Send sends requests to an address, as of a host, until the context ends.
func Send(ctx context.Context, address, host string, rate int) (Count, error) {
	u, err := url.Parse(address)
	if err != nil {
		return Count{}, err
	}
	if u.Hostname() != "127.0.0.1" {
		return Count{}, fmt.Errorf("%s is not on loopback", address)
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
	var mu sync.Mutex
	out := Count{Codes: map[string]int{}, Images: map[string]int{}}
	var wg sync.WaitGroup
	tick := time.NewTicker(time.Second / time.Duration(max(rate, 1)))
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			continue
		case <-tick.C:
		}
		wg.Go(func() {
			r, err := http.NewRequest(http.MethodGet, address, nil)
			if err != nil {
				return
			}
			r.Host = host
			answer, err := client.Do(r)
			mu.Lock()
			defer mu.Unlock()
			out.Sent++
			if err != nil {
				out.Failed++
				out.Why = err.Error()
				return
			}
			body, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<16))
			_ = answer.Body.Close()
			out.Codes[fmt.Sprint(answer.StatusCode)]++
			out.Images[answer.Header.Get("X-Image")]++
			if answer.StatusCode >= 500 {
				out.Failed++
				out.Why = fmt.Sprintf("%d: %.200s", answer.StatusCode, body)
			}
		})
	}
	wg.Wait()
	return out, nil
}
