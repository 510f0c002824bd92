package suggest_test

import (
	"fmt"

	"omnivigil/internal/text/suggest"
)

func ExampleName() {
	known := []string{"watch", "needs", "follows", "outputs"}
	fmt.Println(suggest.Name("wacht", known))
	fmt.Println(suggest.Name("Output", known))
	fmt.Printf("%q\n", suggest.Name("color", known))
	// Output:
	// watch
	// outputs
	// ""
}
