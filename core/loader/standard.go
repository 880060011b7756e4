package loader

import _ "embed" // the code

// StandardCode is boot code of our own for sector 0, 440 bytes, that runs the one active
// partition; its source is standard.asm.
//
//go:embed standard.bin
var StandardCode []byte
