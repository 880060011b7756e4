package diskmaker

import (
	"fmt"
	"strings"
)

// RAMDisk is an initial RAM disk that holds nothing but its end: a cpio archive of the new form. The
// kernel's driver-api/early-userspace/buffer-format.
func RAMDisk() []byte {
	b := make([]byte, 512)
	copy(b, RAMDiskOf())
	return b
}

// RAMDiskOf is an initial RAM disk of files, each with its name and its contents.
func RAMDiskOf(files ...[2]string) []byte {
	var b strings.Builder
	for _, f := range append(files, [2]string{"TRAILER!!!", ""}) {
		b.WriteString(member(f[0], f[1]))
	}
	return []byte(b.String())
}

// RAMDiskWith is an initial RAM disk with modules of a kernel, each by its path below the folder of the kernel's
// release, and the list of those that it has built in, as kmod keeps it. Modules themselves are empty.
func RAMDiskWith(release string, modules, builtIn []string) []byte {
	folder := "usr/lib/modules/" + release + "/"
	files := [][2]string{{"init", "#!/bin/sh\n"}}
	for _, m := range modules {
		files = append(files, [2]string{folder + m, ""})
	}
	return RAMDiskOf(append(files, [2]string{folder + "modules.builtin", strings.Join(builtIn, "\n") + "\n"})...)
}

// member is a file of an archive.
func member(name, content string) string {
	size := fmt.Sprintf("%08X", len(content))
	head := "070701" + strings.Repeat("00000000", 6) + size + strings.Repeat("00000000", 4) + fmt.Sprintf("%08X%08X", len(name)+1, 0)
	pad := func(s string) string { return s + strings.Repeat("\x00", -len(s)&3) }
	return pad(head+name+"\x00") + pad(content)
}
