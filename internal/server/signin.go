package server

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

const whoKey = "vigila.who"

// The cookies. Over TLS their names begin with __Host-, so that no other host of the domain can set them (RFC 6265bis, section 4.1.3).
const (
	sessionCookie = "vigila_session"
	flowCookie    = "vigila_sign_in" // of somebody who is at a provider
	saidCookie    = "vigila_said"    // why nobody is signed in, for the console to show
)

// csrfHeader is what a page of the console sends beside the cookie, which browsers would send for any page.
const csrfHeader = "X-CSRF-Token"

// Bounds of sign-ins that are not taken, of one address: so many at once, and then one a second.
const (
	maxGuesses   = 20
	guessAddress = 10_000 // addresses that are remembered
)

// guesses slows those down who try credentials. Right ones are never slowed: behind one address there may be many people.
type guesses struct {
	sync.Mutex
	from map[string]*rate.Limiter
}

func (g *guesses) may(address string) bool {
	g.Lock()
	defer g.Unlock()
	l := g.from[address]
	if l == nil {
		if len(g.from) >= guessAddress {
			maps.DeleteFunc(g.from, func(_ string, l *rate.Limiter) bool { return l.Tokens() >= maxGuesses })
		}
		if len(g.from) >= guessAddress {
			return false
		}
		l = rate.NewLimiter(1, maxGuesses)
		g.from[address] = l
	}
	return l.Allow()
}

// slowed answers whoever has guessed too often.
func slowed(c *gin.Context) {
	c.Header("Retry-After", "1")
	problem(c, http.StatusTooManyRequests, "Too many sign-ins that are not taken", "they come from "+c.ClientIP()+"; try again in a second")
}

// tls tells whether a browser has asked over TLS, here or at what stands in front.
func tls(c *gin.Context) bool {
	return c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https"
}

// cookieName is what a cookie is called here: browsers keep those of all ports of a host together.
func cookieName(c *gin.Context, name string) string {
	if _, port, err := net.SplitHostPort(c.Request.Host); err == nil {
		name += "_" + port
	}
	if tls(c) {
		return "__Host-" + name
	}
	return name
}

// setCookie sets a cookie that only this service gets to see; for no time it is taken away.
func setCookie(c *gin.Context, name, value string, lasts time.Duration) {
	x := &http.Cookie{Name: cookieName(c, name), Value: value, Path: "/", MaxAge: int(lasts.Seconds()), HttpOnly: name != saidCookie, Secure: tls(c), SameSite: http.SameSiteLaxMode}
	if lasts <= 0 {
		x.MaxAge = -1
	}
	http.SetCookie(c.Writer, x)
}

func cookie(c *gin.Context, name string) string {
	x, err := c.Request.Cookie(cookieName(c, name))
	if err != nil {
		return ""
	}
	return x.Value
}

// credential is what signs a request in, and whether a cookie does: a header goes before it.
func credential(c *gin.Context) (text string, isCookie bool) {
	if text, is := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); is {
		return text, false
	}
	text = cookie(c, sessionCookie)
	return text, text != ""
}

// csrfOf is what a page of the console sends to show that it has read what only it can read. Who does not know the session can't make it.
func csrfOf(session string) string {
	sum := sha256.Sum256([]byte("csrf\n" + session))
	return hex.EncodeToString(sum[:])
}

// authenticate lets nobody through without a token or a session that is taken.
func (s *server) authenticate(c *gin.Context) {
	if want, _ := wanted(c); want == "none" {
		return // it is signed instead, or for everybody
	}
	text, isCookie := credential(c)
	if text == "" {
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "Sign in first", "send Authorization: Bearer TOKEN; vigila sign-in ADDRESS signs the command line in")
		return
	}
	w, err := s.Keeper.Who(c.Request.Context(), text)
	switch {
	case errors.Is(err, record.ErrNone) && !s.guesses.may(c.ClientIP()):
		slowed(c)
		return
	case errors.Is(err, record.ErrNone):
		if isCookie {
			setCookie(c, sessionCookie, "", 0)
		}
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "This sign-in is not taken", "it is not known, has ended, or was taken back: sign in again (vigila sign-in ADDRESS), or have an admin make a token (vigila token make NAME). Where nobody can: vigila serve --make-admin-token, on the service's machine")
		return
	case err != nil:
		s.fail(c, err)
		return
	}
	if isCookie && c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead && subtle.ConstantTimeCompare([]byte(csrfOf(text)), []byte(c.GetHeader(csrfHeader))) != 1 {
		problem(c, http.StatusForbidden, "This is no page of the console", "a session's cookie alone changes nothing: "+csrfHeader+" must be what GET /me says. Reload the page")
		return
	}
	s.Keeper.Used(c.Request.Context(), w)
	c.Set(whoKey, w)
}

func who(c *gin.Context) keeper.Who {
	w, _ := c.MustGet(whoKey).(keeper.Who)
	return w
}

// still tells whether a token or a session is taken as it was when a stream began.
func (s *server) still(c *gin.Context) bool {
	text, _ := credential(c)
	w, err := s.Keeper.Who(c.Request.Context(), text)
	return err != nil && !errors.Is(err, record.ErrNone) || err == nil && w.Name == who(c).Name && fmt.Sprint(w.Rights) == fmt.Sprint(who(c).Rights)
}

// ---- browsers

// local is a path in the console that somebody may be sent to after signing in; anything else is its beginning.
func local(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || u.User != nil || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\\r\n\t") || strings.HasPrefix(u.Path, "/sign-in/") || strings.HasPrefix(u.Path, "//") {
		return "/"
	}
	return to
}

// say sends a browser to the console, which says why nobody is signed in.
func (s *server) say(c *gin.Context, err error) {
	if !s.guesses.may(c.ClientIP()) {
		slowed(c)
		return
	}
	var f *keeper.Fault
	text := "Vigila could not do this; the service's log has the details"
	if errors.As(err, &f) {
		text = f.Text
	}
	if from := c.ClientIP(); s.refusals.first("sign in " + from) {
		s.Log.Warn("nobody was signed in", "why", err, "from", from)
		s.Keeper.Refused(c.Request.Context(), keeper.Actor{Name: "somebody at " + from, Through: "console"}, keeper.Subject{Verb: "sign in", Of: "session", Name: "console"}, text)
	}
	if len(text) > 1500 {
		text = strings.ToValidUTF8(text[:1500], "") + "…"
	}
	setCookie(c, saidCookie, base64.RawURLEncoding.EncodeToString([]byte(text)), time.Minute)
	c.Redirect(http.StatusSeeOther, "/")
}

// startSignIn is GET /sign-in/start?provider=NAME&to=PATH: it sends a browser to a provider.
func (s *server) startSignIn(c *gin.Context) {
	address, flow, err := s.Keeper.BeginSignIn(c.Request.Context(), c.Query("provider"), local(c.Query("to")))
	if err != nil {
		s.say(c, err)
		return
	}
	setCookie(c, flowCookie, flow, 10*time.Minute)
	c.Header("Cache-Control", "no-store")
	c.Redirect(http.StatusSeeOther, address)
}

// endSignIn is GET /sign-in/back: a provider sends a browser back, with a code or with why there is none.
func (s *server) endSignIn(c *gin.Context) {
	flow := cookie(c, flowCookie)
	setCookie(c, flowCookie, "", 0) // it is good for one way back
	c.Header("Cache-Control", "no-store")
	in, err := s.Keeper.FinishSignIn(c.Request.Context(), flow, keeper.CameBack{State: c.Query("state"), Code: c.Query("code"), Problem: strings.TrimSuffix(c.Query("error")+": "+c.Query("error_description"), ": ")}, c.ClientIP())
	if err != nil {
		s.say(c, err)
		return
	}
	s.signIn(c, in.Text)
	c.Redirect(http.StatusSeeOther, local(in.To))
}

// signIn gives a browser a session; the one that it had before ends, so that nobody goes on in it who has not signed in.
func (s *server) signIn(c *gin.Context, text string) {
	if old := cookie(c, sessionCookie); old != "" {
		if w, err := s.Keeper.Who(c.Request.Context(), old); err == nil {
			_, _ = keeper.Do(context.WithoutCancel(c.Request.Context()), s.Keeper, keeper.Actor{Name: w.Name, Through: "console"}, keeper.EndSession{ID: w.Session, By: w}) // it ends by itself as well
		}
	}
	setCookie(c, sessionCookie, text, s.Keeper.SessionLasts())
}

// ListSignIns is GET /sign-in.
func (s *server) ListSignIns(c *gin.Context) {
	out := SignInList{Items: []SignInWay{}}
	for _, p := range s.Keeper.Providers() {
		out.Items = append(out.Items, SignInWay{Name: p.Name, About: p.About})
	}
	c.JSON(http.StatusOK, out)
}

// OpenSession is POST /session.
func (s *server) OpenSession(c *gin.Context) {
	text, err := s.Keeper.OpenSession(context.WithoutCancel(c.Request.Context()), who(c), c.ClientIP())
	if err != nil {
		s.fail(c, err)
		return
	}
	s.signIn(c, text)
	c.Status(http.StatusNoContent)
}

// CloseSession is DELETE /session.
func (s *server) CloseSession(c *gin.Context) {
	w := who(c)
	if w.Session == "" {
		problem(c, http.StatusUnprocessableEntity, "This can't be taken", "this is a token, which signs in until it ends: vigila token end "+w.Name)
		return
	}
	setCookie(c, sessionCookie, "", 0)
	done(s, c, keeper.EndSession{ID: w.Session, By: w})
}

// ListSessions is GET /sessions.
func (s *server) ListSessions(c *gin.Context, q ListSessionsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, err := s.Keeper.Sessions(c.Request.Context(), who(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	items := []Session{}
	for _, x := range all {
		if holds(q.Search, x.Name, string(roleOf(x.Who)), x.Provider, x.From) {
			items = append(items, Session{Id: x.ID(), Name: x.Name, Role: roleOf(x.Who), Provider: x.Provider, Groups: x.SessionMore.Who.Groups, Made: x.Made, Used: x.Used, Expires: x.Who.Ends, Through: x.Through, Address: x.From, You: x.ID() == who(c).Session})
		}
	}
	c.JSON(http.StatusOK, SessionList{Total: len(items), Items: slice(items, limit, offset)})
}

// EndSession is DELETE /sessions/{name}.
func (s *server) EndSession(c *gin.Context, id ItemName) {
	done(s, c, keeper.EndSession{ID: id, By: who(c)})
}

// ---- command lines

// origin is where a browser or a command line has found this service.
func origin(c *gin.Context) string {
	scheme := "http"
	if tls(c) {
		scheme = "https"
	}
	return scheme + "://" + c.Request.Host
}

// askDevice is POST /sign-in/device: the device authorization request of RFC 8628, section 3.1. No client has to be known.
func (s *server) askDevice(c *gin.Context) {
	if !s.form(c) {
		return
	}
	d, err := s.Keeper.AskDevice(c.ClientIP())
	if err != nil {
		refuseOAuth(c, "temporarily_unavailable", err.Error())
		return
	}
	at := origin(c) + "/device"
	c.JSON(http.StatusOK, gin.H{"device_code": d.Secret, "user_code": d.Code, "verification_uri": at, "verification_uri_complete": at + "?code=" + d.Code, "expires_in": int(d.Expires.Seconds()), "interval": int(d.Every.Seconds())})
}

// takeDevice is POST /sign-in/token: the device access token request of RFC 8628, section 3.4.
func (s *server) takeDevice(c *gin.Context) {
	if !s.form(c) {
		return
	}
	if c.PostForm("grant_type") != "urn:ietf:params:oauth:grant-type:device_code" {
		refuseOAuth(c, "unsupported_grant_type", "command lines are let in by urn:ietf:params:oauth:grant-type:device_code alone")
		return
	}
	text, answer, err := s.Keeper.TakeDevice(context.WithoutCancel(c.Request.Context()), c.PostForm("device_code"))
	switch {
	case err != nil:
		s.fail(c, err)
	case answer == keeper.DeviceExpired && !s.guesses.may(c.ClientIP()):
		slowed(c)
	case answer != "":
		refuseOAuth(c, string(answer), "")
	default:
		c.JSON(http.StatusOK, gin.H{"access_token": text, "token_type": "Bearer", "expires_in": int(s.Keeper.SessionLasts().Seconds())})
	}
}

// form reads the form of a request, as OAuth has it (RFC 6749, appendix B).
func (s *server) form(c *gin.Context) bool {
	c.Header("Cache-Control", "no-store")
	if !whole(c, 16<<10, pushTime) {
		return false
	}
	if c.ContentType() != "application/x-www-form-urlencoded" {
		refuseOAuth(c, "invalid_request", "the body must be application/x-www-form-urlencoded")
		return false
	}
	return true
}

// refuseOAuth answers with an error as RFC 6749, section 5.2, writes it.
func refuseOAuth(c *gin.Context, code, text string) {
	out := gin.H{"error": code}
	if text != "" {
		out["error_description"] = text
	}
	c.AbortWithStatusJSON(http.StatusBadRequest, out)
}

// GetDevice is GET /devices/{code}.
func (s *server) GetDevice(c *gin.Context, code string) {
	answer(s, c, func(d keeper.Device) Device {
		return Device{Code: d.Code, Address: d.From, Near: d.From != "" && d.From == c.ClientIP(), Made: d.Made, Expires: d.Made.Add(d.Expires)}
	})(s.Keeper.Device(who(c), code))
}

// AnswerDevice is POST /devices/{code}.
func (s *server) AnswerDevice(c *gin.Context, code string) {
	in, ok := body[AnswerDevice](c)
	if !ok {
		return
	}
	done(s, c, keeper.AnswerDevice{Code: code, By: who(c), Let: in.Let})
}

// ---- providers

func providerOf(p record.Provider) Provider {
	return Provider{Name: p.Name, About: p.About, Issuer: p.Issuer, ClientId: p.Client, HasSecret: p.Secret != "", Console: p.At, SendsBackTo: strings.TrimSuffix(p.At, "/") + keeper.BackPath, Scopes: p.Scopes, NameClaim: p.Names, GroupsClaim: p.Groups,
		Admins: p.Admins, Operators: p.Operators, Readers: p.Readers}
}

// ListProviders is GET /providers.
func (s *server) ListProviders(c *gin.Context) {
	out := ProviderList{Items: []Provider{}}
	for _, p := range s.Keeper.Providers() {
		out.Items = append(out.Items, providerOf(p))
	}
	c.JSON(http.StatusOK, out)
}

// AddProvider is POST /providers.
func (s *server) AddProvider(c *gin.Context) {
	in, ok := body[AddProvider](c)
	if !ok {
		return
	}
	p := record.Provider{Name: in.Name, Secret: in.Secret, ProviderMore: record.ProviderMore{Issuer: in.Issuer, Client: in.ClientId, At: in.Console, About: in.About, CA: in.Ca, Scopes: in.Scopes, Names: in.NameClaim, Groups: in.GroupsClaim,
		Given: grant.Given{Admins: in.Admins, Operators: in.Operators, Readers: in.Readers}}}
	answer(s, c, providerOf)(do(s, c, keeper.AddProvider{Provider: p, NoSecret: in.WithoutSecret}))
}

// RemoveProvider is DELETE /providers/{name}.
func (s *server) RemoveProvider(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveProvider{Name: name})
}
