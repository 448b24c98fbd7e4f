package grant

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"vigila.dev/vigila/internal/core/document"
)

// BenchmarkSees looks which of 10,000 wards a team of ten grants sees, beside writing the names of the thousand that it sees as JSON.
func BenchmarkSees(b *testing.B) {
	r := Rights{}
	for i := range 9 {
		r.Grants = append(r.Grants, Held{Grant{Do: []Verb{Sync}, Wards: document.Wards{Owners: []string{fmt.Sprintf("crew-%d", i)}, Clusters: []string{"quay"}}}, "team a"})
	}
	r.Grants = append(r.Grants, Held{Grant{Do: []Verb{See}, Wards: document.Wards{Owners: []string{"ticketing"}}}, "team a"})
	var all []Thing
	for i := range 10_000 {
		owner := "signals"
		if i%10 == 0 {
			owner = "ticketing"
		}
		all = append(all, Thing{Ward: fmt.Sprintf("ward-%d", i), Owner: owner, Cluster: "skerry", Roster: "moorings"})
	}
	for b.Loop() {
		n := 0
		for _, x := range all {
			if r.Sees(x) {
				n++
			}
		}
		if n != 1000 {
			b.Fatal(n)
		}
	}
	ours := b.Elapsed() / time.Duration(b.N)
	const rounds = 50
	begin := time.Now()
	for range rounds {
		for i := 0; i < len(all); i += 10 {
			if _, err := json.Marshal(all[i]); err != nil {
				b.Fatal(err)
			}
		}
	}
	raw := time.Since(begin) / rounds
	b.ReportMetric(float64(ours)/float64(raw), "times-JSON")
}
