package notify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"

	"github.com/wneessen/go-mail"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/loopback"
)

// checkMail refuses what can't be a way of mail.
func (w Way) checkMail() error {
	host, port, err := net.SplitHostPort(w.Host)
	if n, bad := strconv.Atoi(port); err != nil || host == "" || bad != nil || n < 1 || n > 65535 {
		return fmt.Errorf("its server is %q; write HOST:PORT, such as mail.brindle.example:587", w.Host)
	}
	if err := mailAddresses(append([]string{w.From}, w.To...)); err != nil {
		return err
	}
	if w.Clear && !loopback.Host(host) {
		return errors.New("mail may go unencrypted only to a server on this machine")
	}
	if w.Secret != "" && w.User == "" {
		return errors.New("it has a password, and no user to sign in as")
	}
	return nil
}

func mailAddresses(all []string) error {
	for _, a := range all {
		if _, err := netmail.ParseAddress(a); err != nil {
			return fmt.Errorf("%q is no mail address", a)
		}
	}
	return nil
}

// mail sends a message as text, with plain HTML beside it.
func (w Way) mail(ctx context.Context, e Envelope) error {
	host, port, err := net.SplitHostPort(w.Host)
	if err != nil {
		return &RefusedError{"its server is none"}
	}
	n, _ := strconv.Atoi(port) // it was checked
	policy := mail.TLSMandatory
	if w.Clear && loopback.Host(host) {
		policy = mail.NoTLS
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if w.CA != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(w.CA))
	}
	var first *tls.Config
	if n == 465 && policy != mail.NoTLS { // TLS from the first byte on, RFC 8314
		first, policy = config, mail.TLSOpportunistic
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(timeout), mail.WithTLSConfig(config), mail.WithTLSPolicy(policy), mail.WithDialContextFunc(dials(ctx, first))}
	if w.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(w.User), mail.WithPassword(w.Secret))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return &RefusedError{"its server can't be used: " + err.Error()}
	}
	m, err := w.letter(e)
	if err != nil {
		return &RefusedError{err.Error()}
	}
	if err := client.DialAndSendWithContext(ctx, m); err != nil {
		var sent *mail.SendError
		if errors.As(err, &sent) && !sent.IsTemp() && sent.ErrorCode() >= 500 {
			return &RefusedError{fmt.Sprintf("%s refuses it: %d", w.Name, sent.ErrorCode())}
		}
		if ctx.Err() != nil {
			return fmt.Errorf("%s does not answer in time", w.Name)
		}
		return fmt.Errorf("%s can't be reached, or does not take it now: %s", w.Name, bounded.Text(err.Error()))
	}
	return nil
}

// maxHeard is how many bytes a mail server may say in all, with its certificates.
const maxHeard = 1 << 20

// dials connects to a mail server, with TLS from the first byte on where there is a configuration. The connection lasts as long as the delivery may: a
// client of SMTP waits for the first words without an end.
func dials(delivery context.Context, first *tls.Config) mail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		var dialer net.Dialer
		c, err := dialer.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(delivery, func() { _ = c.Close() })
		heard := bounded.Conn(c, maxHeard)
		if first == nil {
			return heard, nil
		}
		t := tls.Client(heard, first)
		return t, t.HandshakeContext(ctx)
	}
}

// letter is a message as mail; its id is the delivery's, so that a second copy is known as one.
func (w Way) letter(e Envelope) (*mail.Msg, error) {
	to := e.To
	if len(to) == 0 {
		to = w.To
	}
	if len(to) == 0 {
		return nil, fmt.Errorf("%s names nobody, and the alert does not either; write to: [{%s: [ADDRESS]}]", w.Name, w.Name)
	}
	m := mail.NewMsg()
	if err := errors.Join(m.From(w.From), m.To(to...)); err != nil {
		return nil, fmt.Errorf("its addresses can't be used: %w", err)
	}
	m.SetMessageIDWithValue(e.ID + "@vigila")
	m.SetDateWithValue(e.Message.At)
	m.Subject("[vigila] " + heading(e.Message))
	body, err := html(e)
	if err != nil {
		return nil, err
	}
	m.SetBodyString(mail.TypeTextPlain, Text(e)+"\n")
	m.AddAlternativeString(mail.TypeTextHTML, body)
	return m, nil
}
