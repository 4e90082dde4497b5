package cli

import "os"

// hangUp makes a running service read its files again, and ends what runs for a terminal; Windows has no such signal.
var hangUp []os.Signal
