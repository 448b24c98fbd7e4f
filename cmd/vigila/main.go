// Command vigila is the whole of Vigila in one binary: the service with its console, and the command line.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"vigila.dev/vigila/internal/cli"
)

// version is set by the linker.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, cli.Root(version, serveCommand(), renderCommand(), checkCommand(), schemaCommand()), os.Stderr)
	stop()
	os.Exit(code)
}
