// Command vigila is the whole of Vigila in one binary: the service with its console, and the command line.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/render"
)

// apart is the argument of a process that renders one thing for the service.
const apart = "render-apart"

// self is this program, also after its file was replaced by a newer version.
func self() (string, error) {
	if _, err := os.Stat("/proc/self/exe"); err == nil {
		return "/proc/self/exe", nil
	}
	return os.Executable()
}

// version is set by the linker.
var version = "dev"

func main() {
	if len(os.Args) == 2 && os.Args[1] == apart { // the service has started it
		if err := render.Serve(context.Background(), os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, cli.Root(version, serveCommand(), lookoutCommand(), backupCommand(), renderCommand(), checkCommand(), schemaCommand(), liftCommand(), ruleTestCommand()), os.Stderr)
	stop()
	os.Exit(code)
}
