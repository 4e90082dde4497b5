package cli

import "os"

// rereadSignals make a running service read its files again; Windows has none of them.
var rereadSignals []os.Signal
