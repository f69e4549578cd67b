// Command grayloft is the client.
package main

import (
	"context"
	"os"

	"grayloft.example/grayloft/internal/cli"
)

func main() {
	cli.Enter()
	os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdout, os.Stderr))
}
