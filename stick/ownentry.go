package stick

import (
	"latchkey/core/firmware"
	"latchkey/core/startup"
)

// ownEntry is the firmware's entry that leads to the stick: the one by which the running system
// was started, where it names a connector for drives that can be taken out, and nothing on them.
// Without the stick it leads to none of the machine's drives. UEFI Specification 2.10, section 3.3
// (BootCurrent).
func ownEntry(e *firmware.Entries) (own firmware.Entry, ok bool) {
	if e == nil || e.Current == nil {
		return own, false
	}
	own, ok = e.All[*e.Current]
	return own, ok && own.Path.Bus == "usb" && own.Path.Port != nil && own.Path.Partition == nil
}

// knowOwnEntry answers which drive the stick's own entry leads to, by the variables that were just
// read.
func (s *Session) knowOwnEntry(files map[string][]byte) {
	delete(s.Answers, s.ownEntry)
	s.ownEntry = ""
	e, _ := firmware.DecodeVariables(files) // what is damaged is told when the machine is judged
	own, ok := ownEntry(e)
	if !ok {
		return
	}
	s.ownEntry = startup.DeviceOf(own)
	s.Answers[s.ownEntry] = startup.Elsewhere
	s.Log("entry %s leads to the stick: this system was started by it", own.Name())
}
