package alert

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"
	"time"
)

// BenchmarkStep is a look at 10,000 troubles that somebody was told of, none of them new, as the service does it: with a copy of what the alert remembers, and whether it is
// another. It prints how much longer that takes than writing the same troubles as JSON.
func BenchmarkStep(b *testing.B) {
	var all []Trouble
	for i := range 10_000 {
		all = append(all, trouble(fmt.Sprintf("pier-%05d@quay", i), Blind))
	}
	rule := Rule{Name: "ops", After: time.Minute}
	no := func(string) bool { return false }
	around := Around{Now: start.Add(time.Hour), Unknown: no, Muted: no}
	var s State
	rule.Step(&s, around, all)
	var raw, spent time.Duration
	for b.Loop() {
		began := time.Now()
		if _, err := json.Marshal(all); err != nil {
			b.Fatal(err)
		}
		raw += time.Since(began)
		began = time.Now()
		next := s.Clone()
		if len(rule.Step(&next, around, all)) > 0 || !reflect.DeepEqual(s, next) {
			b.Fatal("it is told again")
		}
		spent += time.Since(began)
	}
	b.ReportMetric(float64(spent)/float64(raw), "times-json")
	b.ReportMetric(float64(spent.Milliseconds())/float64(b.N), "ms/look")
}
