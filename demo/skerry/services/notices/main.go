// Command notices tells passengers what has changed.
package main

import (
	"fmt"

	"skerry.example/notices/send"
	wire "skerry.example/wire-schema/gen"
)

func main() {
	fmt.Println(send.Text(wire.Cancellation{Id: "k7", Why: "fog"}, 160))
}
