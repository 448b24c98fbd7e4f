// Command shoot takes pictures of the console, for docs/screenshots. It needs a running service and Chromium.
//
//	shoot -url http://127.0.0.1:7740 -token TOKEN -out docs/screenshots board-day=/ board-night=/?night ward-day=/wards/berth-planner@quay
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	url := flag.String("url", "", "address of the service")
	token := flag.String("token", "", "its token")
	as := flag.String("as", "", "in place of a token: somebody of the lab's provider, who signs in there")
	out := flag.String("out", ".", "directory of the pictures")
	scale := flag.String("scale", "1", "hours that the watch lines show")
	click := flag.String("click", "", "how the buttons and menu items to click first begin, with | between")
	width := flag.Int64("width", 1280, "of the window, in pixels")
	flag.Parse()
	if err := shoot(*url, *token, *as, *out, *scale, *click, *width, flag.Args()); err != nil {
		log.Fatal(err)
	}
}

func shoot(url, token, as, out, scale, click string, width int64, pages []string) error {
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.NoFirstRun, chromedp.WindowSize(1280, 800))
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, time.Duration(len(pages)+1)*time.Minute) // what never shows is told
	defer cancel()
	for i, p := range pages {
		name, path, ok := strings.Cut(p, "=")
		if !ok {
			return fmt.Errorf("%q is not NAME=PATH", p)
		}
		light := "day"
		if strings.Contains(name, "night") {
			light = "night"
		}
		settings := fmt.Sprintf(`localStorage.setItem("vigila.light", %q); localStorage.setItem("vigila.scale", %q); true`, light, scale)
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(width, 800),
			chromedp.Navigate(url + "/healthz"),
			chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
				_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](settings))
				return err
			}),
		}
		switch {
		case i > 0: // signed in already
		case as != "":
			steps = append(steps, chromedp.Navigate(url+"/"), chromedp.Click(chromedp.Search("//a[starts-with(normalize-space(), 'Sign in with')]")), chromedp.Click(chromedp.CSS(fmt.Sprintf("button[value=%q]", as))))
			steps = append(steps, chromedp.WaitVisible(chromedp.CSS("nav")))
		default:
			steps = append(steps, chromedp.Navigate(url+"/#sign-in="+token), chromedp.WaitVisible(chromedp.CSS("nav")))
		}
		steps = append(steps,
			chromedp.Navigate(url+path),
			chromedp.WaitVisible(chromedp.CSS("h1")),
			chromedp.Sleep(1500*time.Millisecond), // a picture, not a test: let the page settle
		)
		for _, c := range strings.FieldsFunc(click, func(r rune) bool { return r == '|' }) {
			steps = append(steps, chromedp.Click(chromedp.Search(fmt.Sprintf("(//*[self::button or self::label or @role='menuitem'][starts-with(normalize-space(), %q)])[last()]", c))), chromedp.Sleep(1200*time.Millisecond))
		}
		if err := chromedp.Do(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", p, err)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", p, err)
		}
		if err := os.WriteFile(filepath.Join(out, name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
