package client

import (
	"context"
	"errors"
	"fmt"
	"net/url"
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
	show(d.VerificationURIComplete, d.UserCode, d.Expiry)
	t, err := conf.DeviceAccessToken(ctx, d)
	if err != nil {
		return Context{}, said(err)
	}
	return Context{Name: u.Host, URL: at, Token: t.AccessToken}, nil
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
