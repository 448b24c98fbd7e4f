package nodes

import (
	"fmt"
	"os"
	"path"
	"strconv"
	"time"

	"sigs.k8s.io/yaml"
)

// Catalogue tells how images behave. The first entry whose pattern matches an image counts; an image that none
// matches is ready after a second.
type Catalogue struct {
	Images []Image `json:"images"`
}

// Image is how one image behaves.
type Image struct {
	Image string `json:"image"` // a pattern as of path.Match, over the whole reference
	// Behaviour is ready (the default), never-ready, crash (runs, then exits again and again), pull-fails, or
	// exits (ends once: what a Job's container does).
	Behaviour string        `json:"behaviour"`
	After     time.Duration `json:"-"`
	AfterText string        `json:"after"` // until ready, or until it exits
	Exit      int32         `json:"exit"`
	Logs      []string      `json:"logs"`
	HTTP      *Answers      `json:"http"` // how its Pods answer; 200 and the image's name when absent
}

// Load reads a catalogue file.
func Load(file string) (*Catalogue, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var c Catalogue
	if err := yaml.UnmarshalStrict(b, &c); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for i := range c.Images {
		im := &c.Images[i]
		if im.After, err = time.ParseDuration(orElse(im.AfterText, "1s")); err != nil {
			return nil, fmt.Errorf("%s: images[%d].after: %w", file, i, err)
		}
		if im.HTTP != nil {
			if im.HTTP.latency, err = time.ParseDuration(orElse(im.HTTP.Latency, "0s")); err != nil {
				return nil, fmt.Errorf("%s: images[%d].http.latency: %w", file, i, err)
			}
			for code, share := range im.HTTP.Codes {
				if n, err := strconv.Atoi(code); err != nil || n < 200 || n > 599 || share < 1 {
					return nil, fmt.Errorf("%s: images[%d].http.codes: %s: %d is no status code with a share", file, i, code, share)
				}
			}
		}
		switch im.Behaviour {
		case "", "ready", "never-ready", "crash", "pull-fails", "exits":
		default:
			return nil, fmt.Errorf("%s: images[%d].behaviour is %q; write ready, never-ready, crash, pull-fails or exits", file, i, im.Behaviour)
		}
		if _, err := path.Match(im.Image, ""); err != nil {
			return nil, fmt.Errorf("%s: images[%d].image: %w", file, i, err)
		}
	}
	return &c, nil
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// find tells how an image behaves; job is whether its Pod is meant to end.
func (c *Catalogue) find(image string, job bool) Image {
	if c != nil {
		for _, im := range c.Images {
			if ok, _ := path.Match(im.Image, image); ok {
				return im
			}
		}
	}
	if job {
		return Image{Behaviour: "exits", After: time.Second, Logs: []string{"done"}}
	}
	return Image{Behaviour: "ready", After: time.Second, Logs: []string{"listening"}}
}
