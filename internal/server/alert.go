package server

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// ListAlerts is GET /alerts.
func (s *server) ListAlerts(c *gin.Context, q ListAlertsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	out := AlertList{Items: []Alert{}}
	for _, a := range s.Keeper.Alerts() {
		if x := alertOf(a); holds(q.Search, append([]string{x.Name, x.About, x.OfWhat, x.Roster}, append(x.Topics, x.GoesTo...)...)...) {
			out.Items = append(out.Items, x)
		}
	}
	out.Total = len(out.Items)
	out.Items = slice(out.Items, limit, offset)
	c.JSON(http.StatusOK, out)
}

func alertOf(a keeper.Alert) Alert {
	out := Alert{Name: a.Name, About: a.Text, Roster: a.Roster, DeclaredAt: fmt.Sprintf("%s:%d", a.File, a.Line), OfWhat: a.Wards.String(), Topics: []string{}, GoesTo: []string{},
		AfterSeconds: int(a.After.Seconds()), AgainSeconds: int(a.Again.Seconds()), QuietHours: a.Quiet.String(), Told: a.Told, Waiting: a.Waiting, WaysMissing: a.Missing}
	for _, t := range a.About {
		out.Topics = append(out.Topics, string(t))
	}
	for _, to := range a.To {
		if len(to.Addresses) == 0 {
			out.GoesTo = append(out.GoesTo, to.Way)
		}
		for _, x := range to.Addresses {
			out.GoesTo = append(out.GoesTo, to.Way+": "+x)
		}
	}
	return out
}

// TryAlert is POST /alerts/{name}/try.
func (s *server) TryAlert(c *gin.Context, name ItemName) {
	answer(s, c, func(all []keeper.Tried) AlertTrial {
		out := AlertTrial{Items: []AlertTried{}}
		for _, t := range all {
			out.Items = append(out.Items, AlertTried{ByWay: t.Way, GoesTo: t.To, Problem: t.Problem})
		}
		return out
	})(do(s, c, keeper.TryAlert{Name: name}))
}

// ListDeliveries is GET /deliveries.
func (s *server) ListDeliveries(c *gin.Context, q ListDeliveriesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, total, err := s.Keeper.Deliveries(c.Request.Context(), q.Search, q.Undelivered, limit, offset)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := DeliveryList{Items: []Delivery{}, Total: total}
	for _, d := range all {
		out.Items = append(out.Items, deliveryOf(d))
	}
	c.JSON(http.StatusOK, out)
}

func deliveryOf(d record.Delivery) Delivery {
	out := Delivery{Id: d.ID, Alert: d.Alert, ByWay: d.Way, GoesTo: d.To, Kind: string(d.Message.Kind), Topic: string(d.Message.Topic), Subjects: []string{}, Title: d.Message.Title(), Lines: []string{}, MadeAt: d.Made, Delivered: d.Done, Next: d.Next, Tries: d.Tries, Problem: d.Problem}
	for _, i := range d.Message.Items {
		out.Subjects = append(out.Subjects, i.Subject)
		line := i.Text
		if len(d.Message.Items)+d.Message.More > 1 { // else the title names it
			line = i.Subject + ": " + line
		}
		if i.By != "" && d.Message.Kind != alert.Over {
			line += " (" + i.By + ")"
		}
		out.Lines = append(out.Lines, line)
	}
	if d.Message.More > 0 {
		out.Lines = append(out.Lines, fmt.Sprintf("and %d more", d.Message.More))
	}
	return out
}

// ListWays is GET /ways.
func (s *server) ListWays(c *gin.Context) {
	out := WayList{Items: []Way{}}
	for _, w := range s.Keeper.Ways() {
		out.Items = append(out.Items, wayOf(w))
	}
	c.JSON(http.StatusOK, out)
}

// wayOf is a way without what is secret of it: of its address the host alone.
func wayOf(w record.Way) Way {
	out := Way{Name: w.Name, Form: w.Kind, About: w.About, Server: w.Host, User: w.User, Sender: w.From, GoesTo: w.To, Console: w.Console, ForRosters: w.Rosters}
	if u, err := url.Parse(w.URL); err == nil && w.Host == "" {
		out.Server = u.Host
	}
	return out
}

// AddWay is POST /ways.
func (s *server) AddWay(c *gin.Context) {
	in, ok := body[AddWay](c)
	if !ok {
		return
	}
	answer(s, c, wayOf)(do(s, c, keeper.AddWay{Way: record.Way{Name: in.Name, URL: in.Url, Secret: in.Token,
		WayMore: record.WayMore{Kind: string(in.Form), About: in.About, CA: in.Ca, Host: in.Server, User: in.User, From: in.Sender, To: in.GoesTo, Clear: in.Unencrypted, Console: in.Console, Rosters: in.ForRosters}}}))
}

// RemoveWay is DELETE /ways/{name}.
func (s *server) RemoveWay(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveWay{Name: name})
}

// TryWay is POST /ways/{name}/try.
func (s *server) TryWay(c *gin.Context, name ItemName) {
	in, ok := body[TryWay](c)
	if !ok {
		return
	}
	done(s, c, keeper.TryWay{Name: name, To: in.GoesTo})
}

// ListMutes is GET /mutes.
func (s *server) ListMutes(c *gin.Context) {
	all, err := s.Keeper.Mutes(c.Request.Context())
	answer(s, c, func(all []record.Mute) MuteList {
		out := MuteList{Items: []Mute{}}
		for _, m := range all {
			out.Items = append(out.Items, muteOf(m))
		}
		return out
	})(all, err)
}

func muteOf(m record.Mute) Mute {
	return Mute{Subject: m.Subject, Until: m.Until, By: m.By, Why: m.Why, At: m.At}
}

// Mute is POST /mutes.
func (s *server) Mute(c *gin.Context) {
	in, ok := body[AddMute](c)
	if !ok {
		return
	}
	answer(s, c, muteOf)(do(s, c, keeper.Mute{Of: in.Subject, Why: in.Why, Until: in.Until}))
}

// Unmute is DELETE /mutes.
func (s *server) Unmute(c *gin.Context, q UnmuteParams) {
	done(s, c, keeper.Unmute{Of: q.Subject})
}
