package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"golang.org/x/oauth2"
)

// ErrNoAddress tells that what was given is no address of a service.
var ErrNoAddress = errors.New("it looks like https://vigila.brindle.example, or http://127.0.0.1:7740/#sign-in=TOKEN for a link")

// LetIn waits until somebody lets this command line in to the service at an address, with a browser anywhere (RFC 8628). Show is told once what they open.
func LetIn(ctx context.Context, address string, show func(link, code string, until time.Time)) (Context, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return Context{}, fmt.Errorf("%q is no address of a service; %w", address, ErrNoAddress)
	}
	at := u.Scheme + "://" + u.Host
	conf := oauth2.Config{ClientID: "vigila", Endpoint: oauth2.Endpoint{DeviceAuthURL: at + "/sign-in/device", TokenURL: at + "/sign-in/token", AuthStyle: oauth2.AuthStyleInParams}}
	d, err := conf.DeviceAuth(ctx)
	if err != nil {
		return Context{}, fmt.Errorf("the service at %s lets no command line in: %w", at, said(err))
	}
	link, back, end := cameBack(ctx, d.VerificationURIComplete)
	defer end()
	show(link, d.UserCode, d.Expiry)
	waits, stop := context.WithCancel(ctx)
	defer stop()
	context.AfterFunc(back, stop) // the browser is on this machine, and was sent back here: there is no need to wait for the next time to ask
	t, err := conf.DeviceAccessToken(waits, d)
	if errors.Is(err, context.Canceled) && ctx.Err() == nil {
		d.Interval = 1
		t, err = conf.DeviceAccessToken(ctx, d)
	}
	if err != nil {
		return Context{}, said(err)
	}
	return Context{Name: u.Host, URL: at, Token: t.AccessToken}, nil
}

// cameBack waits on a port of this machine for a browser that is on it as well: the page where somebody lets the command line in sends it there (RFC 8252, section
// 7.3). back ends once it came. Where no port can be had the link stays as it is, and the service is asked now and then.
func cameBack(ctx context.Context, link string) (to string, back context.Context, end func()) {
	back, came := context.WithCancel(context.WithoutCancel(ctx))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return link, back, came
	}
	answered := make(chan struct{})
	var once sync.Once
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/let-in" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = io.WriteString(w, "The command line is signed in. You can close this page.\n") // whoever left early knows it from the terminal
		once.Do(func() { close(answered); came() })
	})}
	go func() { _ = s.Serve(l) }()
	return fmt.Sprintf("%s&here=%d", link, l.Addr().(*net.TCPAddr).Port), back, func() {
		defer came()
		select {
		case <-answered: // what was said to the browser goes out
			_ = s.Shutdown(ctx)
		default:
			_ = s.Close()
		}
	}
}

// said is an OAuth error in words.
func said(err error) error {
	var refused *oauth2.RetrieveError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return errors.New("nobody let this command line in before the code ended; run it again")
	case !errors.As(err, &refused):
		return err
	case refused.ErrorCode == "access_denied":
		return errors.New("whoever was asked did not let this command line in")
	case refused.ErrorCode == "expired_token":
		return errors.New("nobody let this command line in before the code ended, or the service was started anew; run it again")
	case refused.ErrorDescription != "":
		return errors.New(refused.ErrorDescription)
	case refused.ErrorCode != "":
		return errors.New(refused.ErrorCode)
	case refused.Response != nil:
		return fmt.Errorf("it answers %s; is it Vigila?", refused.Response.Status)
	}
	return err
}
