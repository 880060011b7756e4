package repair

import (
	"strings"

	"latchkey/core/command"
)

// mountedClone is where the clone's own system is mounted.
const mountedClone = "/mnt/clone"

// What lies on a disk never acts: a link on it may lead out of the folder that it is mounted on, to the
// live system's own files.

// inClone tests whether a path leads to a place within the clone's system: a link on it may lead to the
// live system's own files. readlink(1), --canonicalize.
func inClone(path any) command.Node { return inFolder(mountedClone, path) }

func inFolder(folder string, path any) command.Node {
	return command.Pipe(command.Run("readlink", "-f", path), command.Run("grep", "-q", "^"+folder+"/"))
}

// spared copies a file beside itself.
func spared(file any) command.Node {
	as := command.Join(file, ".bak")
	return command.All(inClone(file), inClone(as), command.Run("cp", file, as))
}

// foldered makes a folder to mount on, of which a part may lie on the clone.
func foldered(folder string) command.Node {
	if strings.HasPrefix(folder, mountedClone+"/") {
		return command.All(inClone(folder), command.Run("mkdir", "-p", folder))
	}
	return command.Run("mkdir", "-p", folder)
}
