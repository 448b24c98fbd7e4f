package nodes

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTheDemosCatalogue(t *testing.T) {
	c, err := Load("../demo/images.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for image, want := range map[string]string{
		"registry.brindle.example/fare-gate:2.8.0":     "crash",
		"registry.brindle.example/berth-hung:1":        "never-ready",
		"registry.brindle.example/berth-broken:1":      "pull-fails",
		"registry.brindle.example/tide-gauge:3.1.0":    "",
		"registry.brindle.example/berth-planner:1.9.0": "",
	} {
		if got := c.find(image, false).Behaviour; got != want {
			t.Errorf("%s is %q, not %q", image, got, want)
		}
	}
	if got := c.find("elsewhere.example/job:1", true).Behaviour; got != "exits" {
		t.Errorf("a Job's image that no entry names is %q", got)
	}
}

func TestMistakesInACatalogueAreNamed(t *testing.T) {
	for text, want := range map[string]string{
		"images: [{image: a, behaviour: sleeps}]":  "write ready, never-ready, crash, pull-fails or exits",
		"images: [{image: a, after: soon}]":        "images[0].after",
		"images: [{image: '[', behaviour: crash}]": "images[0].image",
		"imagez: []": "imagez",
	} {
		file := filepath.Join(t.TempDir(), "c.yaml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Load(file); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}
