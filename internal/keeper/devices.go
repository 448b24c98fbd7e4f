package keeper

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/record"
)

// Bounds of command lines that wait to be let in (RFC 8628). They are not kept over a start of the service.
const (
	deviceFor     = 10 * time.Minute
	deviceEvery   = 2 * time.Second // between two questions of a command line
	maxDevices    = 500
	maxDeviceFrom = 10 // of one address
	maxGuesses    = 20 // wrong codes of one person, in the time that a code is taken
)

// codeLetters are those that codes are made of: no vowels, so that they make no words, and none that is taken for another (RFC 8628, section 6.1).
const codeLetters = "BCDFGHJKLMNPQRSTVWXZ"

// devices are the command lines that wait for somebody to let them in.
type devices struct {
	sync.Mutex
	all     map[string]*device // by the hash of what the command line has
	guesses map[string][]time.Time
}

func newDevices() devices {
	return devices{all: map[string]*device{}, guesses: map[string][]time.Time{}}
}

type device struct {
	code  string // that a person types
	from  string
	made  time.Time
	polls time.Time
	said  bool                // somebody has let it in, or has not
	who   *record.SessionMore // who has; nil where it was refused
	name  string
}

// Device is a command line that waits, as it is told to whoever asks for it.
type Device struct {
	Secret  string // that it asks with
	Code    string // that a person types, as XXXX-XXXX
	From    string // its address
	Made    time.Time
	Expires time.Duration
	Every   time.Duration
}

// AskDevice lets a command line wait for somebody to let it in.
func (k *Keeper) AskDevice(from string) (Device, error) {
	d := &k.people.devices
	d.Lock()
	defer d.Unlock()
	d.tidy(time.Now())
	same := 0
	for _, x := range d.all {
		if x.from == from {
			same++
		}
	}
	if len(d.all) >= maxDevices || same >= maxDeviceFrom {
		return Device{}, fault(Conflict, "too many command lines wait to be let in; those that nobody lets in are forgotten after %d minutes", int(deviceFor.Minutes()))
	}
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	out := Device{Secret: base64.RawURLEncoding.EncodeToString(b), Code: deviceCode(), From: from, Made: time.Now(), Expires: deviceFor, Every: deviceEvery}
	d.all[HashToken(out.Secret)] = &device{code: out.Code, from: from, made: out.Made}
	return out, nil
}

// deviceCode is a code of eight letters: 20⁸ of them, of which a person can try few.
func deviceCode() string {
	var out strings.Builder
	for out.Len() < 9 {
		if out.Len() == 4 {
			out.WriteByte('-')
		}
		var b [1]byte
		_, _ = rand.Read(b[:]) // never fails
		if n := int(b[0]); n < 240 {
			out.WriteByte(codeLetters[n%len(codeLetters)])
		}
	}
	return out.String()
}

func (d *devices) tidy(now time.Time) {
	for key, x := range d.all {
		if now.Sub(x.made) > deviceFor {
			delete(d.all, key)
		}
	}
	for who, at := range d.guesses {
		for len(at) > 0 && now.Sub(at[0]) > deviceFor {
			at = at[1:]
		}
		if d.guesses[who] = at; len(at) == 0 {
			delete(d.guesses, who)
		}
	}
}

// waiting finds the command line with a code that nobody has answered yet; wrong codes of a person are counted.
func (d *devices) waiting(code, who string, now time.Time) (*device, error) {
	d.tidy(now)
	if len(d.guesses[who]) >= maxGuesses {
		return nil, fault(Conflict, "too many codes that are none; try again in %d minutes", int(deviceFor.Minutes()))
	}
	want := strings.ToUpper(strings.Join(strings.FieldsFunc(code, func(r rune) bool { return r == '-' || r == ' ' }), ""))
	for _, x := range d.all {
		if strings.ReplaceAll(x.code, "-", "") == want && !x.said {
			return x, nil
		}
	}
	d.guesses[who] = append(d.guesses[who], now)
	return nil, fault(NotFound, "no command line waits with code %.20q: it was answered, or waited longer than %d minutes; run vigila sign-in again", code, int(deviceFor.Minutes()))
}

// Device is the command line that waits with a code.
func (k *Keeper) Device(by Who, code string) (Device, error) {
	d := &k.people.devices
	d.Lock()
	defer d.Unlock()
	x, err := d.waiting(code, by.Name, time.Now())
	if err != nil {
		return Device{}, err
	}
	return Device{Code: x.code, From: x.from, Made: x.made, Expires: deviceFor}, nil
}

// AnswerDevice lets the command line in that waits with a code, as whoever says so, or refuses it.
type AnswerDevice struct {
	Code string
	By   Who
	Let  bool
}

// Subject says what is asked for.
func (w AnswerDevice) Subject() Subject {
	verb := "refuse"
	if w.Let {
		verb = "let in"
	}
	return Subject{verb, "command line", w.Code}
}

func (w AnswerDevice) do(_ context.Context, k *Keeper, _ Actor) (Nothing, error) {
	d := &k.people.devices
	d.Lock()
	defer d.Unlock()
	x, err := d.waiting(w.Code, w.By.Name, time.Now())
	if err != nil {
		return Nothing{}, err
	}
	x.said, x.name = true, w.By.Name
	if w.Let {
		x.who = &record.SessionMore{Who: w.By.session.SessionMore.Who, Token: w.By.session.Token, Through: "command line", From: x.from}
		if w.By.Session == "" {
			x.who.Token = w.By.hash()
		}
	}
	return Nothing{}, nil
}

// DeviceAnswer is what a command line is told that asks whether it was let in, in the words of RFC 8628, section 3.5; "" with the text of its session.
type DeviceAnswer string

// The answers.
const (
	DeviceWaits   DeviceAnswer = "authorization_pending"
	DeviceTooFast DeviceAnswer = "slow_down"
	DeviceRefused DeviceAnswer = "access_denied"
	DeviceExpired DeviceAnswer = "expired_token"
)

// TakeDevice tells a command line whether it was let in; the text of its session is in the answer once.
func (k *Keeper) TakeDevice(ctx context.Context, secret string) (text string, answer DeviceAnswer, err error) {
	d := &k.people.devices
	key, now := HashToken(secret), time.Now()
	d.Lock()
	d.tidy(now)
	x := d.all[key]
	switch {
	case x == nil:
		answer = DeviceExpired
	case x.said && x.who == nil:
		answer = DeviceRefused
		delete(d.all, key)
	case x.said:
		delete(d.all, key)
	case now.Sub(x.polls) < deviceEvery/2:
		answer = DeviceTooFast
	default:
		answer, x.polls = DeviceWaits, now
	}
	d.Unlock()
	if answer != "" {
		return "", answer, nil
	}
	if text, err = Do(ctx, k, Actor{Name: x.name, Through: "command line"}, openSession{*x.who}); err != nil { // it was let in all the same, and asks again
		d.Lock()
		d.all[key] = x
		d.Unlock()
	}
	return text, "", err
}
