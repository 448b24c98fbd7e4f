package standing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/plan"
)

// topics are what is told of a ward about which another rule than the loud ones has the say, by the rule's name.
var topics = map[string]alert.Topic{
	"going back failed":                             alert.CantGoBack,
	"it went back":                                  alert.WentBack,
	"the repository can't be read":                  alert.Blind,
	"the cluster can't be read":                     alert.Blind,
	"a canary goes on":                              alert.CanaryWaits,
	"its file is wrong":                             alert.NeedsYou,
	"the record can't be used":                      alert.NeedsYou,
	"nothing can be written down":                   alert.NeedsYou,
	"something is in the way that can't be allowed": alert.SecretMissing,
}

// Unclear tells that nobody knows how the ward stands, and that this is no trouble yet: it was not looked at, or is being read.
func (v *View) Unclear() bool { return v.Tone == ToneBlind && !v.NeedsYou }

// Trouble is what somebody may be told of the ward; nil when it needs nobody.
func (v *View) Trouble() *alert.Trouble {
	if !v.NeedsYou {
		return nil
	}
	t := &alert.Trouble{Subject: v.ID, Topic: alert.NeedsYou, Text: v.Says, By: v.by(), Todo: v.Todo, Since: v.Since, Link: "/wards/" + v.ID,
		Of: v.Of()}
	if topic, is := topics[v.Rule]; is {
		t.Topic = topic
	}
	if v.Rule == lookoutAway {
		t.Topic = alert.Blind
	}
	switch {
	case t.Topic == alert.SecretMissing && !slices.ContainsFunc(v.Guards, func(g plan.Guard) bool { return g.Name == missingSecret }):
		t.Topic = alert.NeedsYou
	case t.Topic == alert.Blind && (v.Rule == "the cluster can't be read" || v.Rule == lookoutAway):
		t.Cause = "cluster " + v.Cluster
	case t.Topic == alert.Blind:
		t.Cause = "repository " + v.Ward.From.Repo
	}
	return t
}

// Of is what troubles of the ward belong to.
func (v *View) Of() alert.Of {
	return alert.Of{Ward: v.Ward.Name, Owner: v.Ward.Owner, Cluster: v.Cluster, Roster: v.Roster}
}

// by is who or what did it, as far as is known: whoever changed the cluster where it drifted, and else whose revision it is. Nobody where something can't be read.
func (v *View) by() string {
	switch {
	case v.Tone == ToneBlind:
		return ""
	case v.Tone == ToneDrifted || v.Tone == ToneContested:
		return v.changedBy()
	case v.Revision == nil || v.Revision.Author == "":
		return ""
	}
	return "Revision " + v.Revision.Title() + ", by " + v.Revision.Author
}

// changedBy names who changed objects of the ward, each once and when it did so last.
func (v *View) changedBy() string {
	last := map[string]time.Time{}
	var names []string
	for _, o := range v.Astray {
		for _, d := range o.Drift {
			name := d.Who
			if d.Likely {
				name = "probably " + d.Who
			}
			if d.Who == "" {
				continue
			}
			if _, known := last[name]; !known {
				names = append(names, name)
			}
			if d.When.After(last[name]) {
				last[name] = d.When
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	slices.Sort(names)
	for i, name := range names {
		if at := last[name]; !at.IsZero() {
			names[i] += " at " + at.UTC().Format("2006-01-02 15:04 UTC")
		}
	}
	if len(names) > mostNamed {
		names = append(names[:mostNamed], fmt.Sprintf("and %d more", len(names)-mostNamed))
	}
	return "Changed by " + strings.Join(names, ", ")
}

// mostNamed is how many a message names who changed something.
const mostNamed = 4

// missingSecret is the guard that stands before what refers to a value that is not there.
const missingSecret = "missing-secret"
