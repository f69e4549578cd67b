// Command act is the program that tasks of random repositories start.
package main

import (
	"fmt"
	"os"

	"grayloft.example/grayloft/internal/trial/oracle/play"
)

func main() {
	root, err := os.Getwd()
	if err == nil {
		err = play.FromArguments(root, os.Args[1:])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
