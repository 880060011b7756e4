package machine

import (
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
)

// kernelProgram is what a kernel is as a program of the firmware's, or why that is not told.
type kernelProgram struct {
	program loader.Program
	err     error
}

// maxKernels bounds the kernels of a volume of which is read who vouches for them.
const maxKernels = 64

// kernel looks for a kernel that a menu names, and reads who vouches for it.
func (g *gathering) kernel(name string) {
	v, key := g.volume, strings.ToLower(name)
	if _, done := v.kernels[key]; done {
		return
	}
	g.payload(name)
	f, err := g.find(name)
	if err != nil || len(v.kernels) == maxKernels {
		return
	}
	var p loader.Program
	s, err := g.files.Open(f)
	if err == nil {
		p, err = loader.ExamineEFI(s, s.Size())
	}
	if v.kernels == nil {
		v.kernels = map[string]kernelProgram{}
	}
	v.kernels[key] = kernelProgram{p, err}
}

// Kernel tells what a kernel is as a program of the firmware's. The error is one of bytes that are
// not in evidence, or says why it is none.
func (v *Volume) Kernel(name string) (loader.Program, error) {
	k, read := v.kernels[strings.ToLower(name)]
	if !read {
		return loader.Program{}, &disk.Spent{}
	}
	return k.program, k.err
}
