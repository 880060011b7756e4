package diskmaker

import "strings"

// RAMDisk is an initial RAM disk that holds nothing but its end.
func RAMDisk() []byte {
	b := make([]byte, 512)
	copy(b, RAMDiskOf())
	return b
}

// RAMDiskOf is an initial RAM disk of files, each with its name and its contents.
func RAMDiskOf(files ...[2]string) []byte {
	var a Archive
	for _, f := range files {
		a.Add(f[0], 0o100755, []byte(f[1]))
	}
	return a.Bytes()
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
