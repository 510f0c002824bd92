package passes

import "flag"

var update = flag.Bool("update", false, "write testdata again; read the difference")
