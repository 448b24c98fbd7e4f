package soak

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vigila.dev/lab/inbox"
)

// inboxToken is in the address of the chat that is told of what goes wrong.
const inboxToken = "soak-chat"

// watchFile tells the chat of everything.
const watchFile = "vigila: alert/v1\nname: soak\nafter: 2s\nto: [soak-chat]\n"

// The bounds of what is told: some messages at the beginning, and so many a minute.
const (
	toldFirst  = 40
	toldMinute = 6
)

// listen begins the chat, and writes down who is told.
func (s *soak) listen() (err error) {
	if s.inbox, err = inbox.Start(inbox.Ports{}, inboxToken, s.Dir); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(s.work, "watch"), 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.work, "watch", "alerts.yaml"), []byte(watchFile), 0o600)
}

// tell lets the service know the chat, and the roster that says who is told.
func (s *soak) tell() error {
	if err := s.call(http.MethodPost, "ways", map[string]any{"name": "soak-chat", "form": "chat", "url": s.inbox.URL + "/hook/" + inboxToken, "console": "http://" + s.address}, nil); err != nil {
		return err
	}
	return s.call(http.MethodPost, "rosters", map[string]any{"name": "watch", "repo": "moorings", "ref": "main", "path": "watch"}, nil)
}

// chatDown makes the chat fail for the service, in one of the ways that there are.
func (s *soak) chatDown() (string, error) {
	mode := []string{"down", "busy", "slow"}[s.dice.IntN(3)]
	pause := time.Duration(500+s.dice.IntN(6000)) * time.Millisecond
	s.inbox.Mode("chat", mode)
	time.Sleep(pause)
	s.inbox.Mode("chat", "")
	return fmt.Sprintf("the chat failed for %.1f s: %s", pause.Seconds(), mode), nil
}

// delivery is what the service says of a message.
type delivery struct {
	ID, Kind, Topic, Title, Problem string
	Subjects                        []string
	Delivered, Next                 time.Time
}

// told waits until everything that is to be said was, and holds what came in against it: nothing was lost, nothing was said twice but around kills, what is over was told
// of before, and it was no storm.
func (s *soak) told() error {
	var list struct {
		Items []delivery
		Total int
	}
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		var waiting struct{ Total int }
		if err := s.call(http.MethodGet, "deliveries?limit=1&undelivered=true", nil, &waiting); err != nil {
			return err
		}
		if waiting.Total == 0 {
			break
		}
		if time.Since(began) > calm {
			return fmt.Errorf("seed %d: %d messages are not delivered %s after the last fault", s.Seed, waiting.Total, calm)
		}
	}
	if err := s.call(http.MethodGet, "deliveries?limit=1000", nil, &list); err != nil {
		return err
	}
	came := s.inbox.Messages()
	most := toldFirst + toldMinute*int(time.Since(s.began).Minutes())
	switch n := len(list.Items); {
	case n == 0:
		return fmt.Errorf("seed %d: nobody was told of anything, and much was wrong", s.Seed)
	case n < list.Total || n > most:
		return fmt.Errorf("seed %d: %d messages are a storm; at most %d were expected", s.Seed, list.Total, most)
	}
	if err := held(list.Items, came, s.counts["kills"]); err != nil {
		return fmt.Errorf("seed %d: %w", s.Seed, err)
	}
	s.say("%d messages were told to the chat, %d of them that something is over", len(list.Items), over(list.Items))
	return nil
}

func over(all []delivery) (n int) {
	for _, d := range all {
		if d.Kind == "over" {
			n++
		}
	}
	return n
}

// held holds deliveries, the newest first, against what came in, the oldest first.
func held(all []delivery, came []inbox.Message, kills int) error {
	titles := map[string]int{}
	for _, m := range came {
		title, _, _ := strings.Cut(m.Text, "\n")
		titles[title]++
	}
	for _, d := range all {
		if titles[d.Title]--; titles[d.Title] < 0 {
			return fmt.Errorf("%q (%s) is said to be delivered, and did not come in", d.Title, d.ID)
		}
	}
	twice := 0
	for title, n := range titles {
		if twice += n; twice > kills {
			return fmt.Errorf("%q and others came in %d times more than they were sent, and there were %d kills", title, twice, kills)
		}
	}
	open := map[string]string{}
	for i := len(all) - 1; i >= 0; i-- {
		d := all[i]
		for _, subject := range d.Subjects {
			key := subject + ": " + d.Topic
			switch was := open[key]; {
			case d.Kind == "opened" && was != "":
				return fmt.Errorf("%s was told by %s, and again by %s, and was not over between", key, was, d.ID)
			case d.Kind == "over" && was == "":
				return fmt.Errorf("%s is told as over by %s, and nobody was told that it began", key, d.ID)
			case d.Kind == "opened":
				open[key] = d.ID
			case d.Kind == "over":
				delete(open, key)
			default:
				return fmt.Errorf("%s was told as %s by %s, which nobody asked for", key, d.Kind, d.ID)
			}
		}
	}
	return nil
}
