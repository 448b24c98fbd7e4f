package standing

import (
	"slices"

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
	t := &alert.Trouble{Subject: v.ID, Topic: alert.NeedsYou, Text: v.Says, Todo: v.Todo, Since: v.Since, Link: "/wards/" + v.ID,
		Of: alert.Of{Ward: v.Ward.Name, Owner: v.Ward.Owner, Cluster: v.Cluster, Roster: v.Roster}}
	if topic, is := topics[v.Rule]; is {
		t.Topic = topic
	}
	switch {
	case t.Topic == alert.SecretMissing && !slices.ContainsFunc(v.Guards, func(g plan.Guard) bool { return g.Name == missingSecret }):
		t.Topic = alert.NeedsYou
	case t.Topic == alert.Blind && v.Rule == "the cluster can't be read":
		t.Cause = "cluster " + v.Cluster
	case t.Topic == alert.Blind:
		t.Cause = "repository " + v.Ward.From.Repo
	}
	return t
}

// missingSecret is the guard that stands before what refers to a value that is not there.
const missingSecret = "missing-secret"
