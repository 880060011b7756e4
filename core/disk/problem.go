package disk

import (
	"fmt"

	"latchkey/core/fact"
)

// Problem is something wrong, or worth saying, about what was found on a disk.
type Problem struct {
	Code   ProblemCode `json:"code"`
	Text   string      `json:"text"`
	Want   string      `json:"want,omitempty"` // what was expected there
	Got    string      `json:"got,omitempty"`  // what was found there
	Source fact.Source `json:"source"`
}

// ProblemCode is the stable identifier of a kind of problem.
type ProblemCode string

// The problems of tables, and of reading them.
const (
	CodeBeyondEnd             ProblemCode = "beyond-end"
	CodeDuplicateGUID         ProblemCode = "duplicate-guid"
	CodeEBRLong               ProblemCode = "ebr-long"
	CodeEBRLoop               ProblemCode = "ebr-loop"
	CodeEBROutside            ProblemCode = "ebr-outside"
	CodeEBRSignature          ProblemCode = "ebr-signature"
	CodeEBRUnreadable         ProblemCode = "ebr-unreadable"
	CodeGPTArrayCRC           ProblemCode = "gpt-array-crc"
	CodeGPTArrayLarge         ProblemCode = "gpt-array-large"
	CodeGPTArrayNotCaptured   ProblemCode = "gpt-array-not-captured"
	CodeGPTArrayOutside       ProblemCode = "gpt-array-outside"
	CodeGPTArrayUnreadable    ProblemCode = "gpt-array-unreadable"
	CodeGPTArrayWraps         ProblemCode = "gpt-array-wraps"
	CodeGPTBackupAbsent       ProblemCode = "gpt-backup-absent"
	CodeGPTBackupMisplaced    ProblemCode = "gpt-backup-misplaced"
	CodeGPTBackupToldDamaged  ProblemCode = "gpt-backup-told-damaged"
	CodeGPTCopiesDiffer       ProblemCode = "gpt-copies-differ"
	CodeGPTEntryBackwards     ProblemCode = "gpt-entry-backwards"
	CodeGPTEntryOutside       ProblemCode = "gpt-entry-outside"
	CodeGPTEntrySize          ProblemCode = "gpt-entry-size"
	CodeGPTHeaderCRC          ProblemCode = "gpt-header-crc"
	CodeGPTHeaderSize         ProblemCode = "gpt-header-size"
	CodeGPTLargerDisk         ProblemCode = "gpt-larger-disk"
	CodeGPTManyPartitions     ProblemCode = "gpt-many-partitions"
	CodeGPTMyLBA              ProblemCode = "gpt-my-lba"
	CodeGPTNoneValid          ProblemCode = "gpt-none-valid"
	CodeGPTPrimaryAbsent      ProblemCode = "gpt-primary-absent"
	CodeGPTPrimaryToldDamaged ProblemCode = "gpt-primary-told-damaged"
	CodeGPTProtectiveUnsigned ProblemCode = "gpt-protective-unsigned"
	CodeGPTRevision           ProblemCode = "gpt-revision"
	CodeGPTStale              ProblemCode = "gpt-stale"
	CodeGPTUnprotected        ProblemCode = "gpt-unprotected"
	CodeGPTUnreadable         ProblemCode = "gpt-unreadable"
	CodeMBRHybrid             ProblemCode = "mbr-hybrid"
	CodeMBRNoTable            ProblemCode = "mbr-no-table"
	CodeMBRSignature          ProblemCode = "mbr-signature"
	CodeMBRStatus             ProblemCode = "mbr-status"
	CodeMBRTwoActive          ProblemCode = "mbr-two-active"
	CodeMBRToldDamaged        ProblemCode = "mbr-told-damaged"
	CodeMBRUnreadable         ProblemCode = "mbr-unreadable"
	CodeNotReadToItsEnd       ProblemCode = "not-read-to-its-end"
	CodeUnreadable            ProblemCode = "unreadable"
	CodeOverlap               ProblemCode = "overlap"
	CodeSectorSize            ProblemCode = "sector-size"
)

// at builds a byte source within a disk.
func at(structure, field string, offset, length int64) fact.Source {
	return fact.Source{Origin: fact.Bytes, Structure: structure, Field: field, Offset: offset, Length: length}
}

func problem(code ProblemCode, src fact.Source, format string, args ...any) Problem {
	return Problem{Code: code, Text: fmt.Sprintf(format, args...), Source: src}
}

func (p Problem) wanted(want, got any) Problem {
	p.Want, p.Got = fmt.Sprint(want), fmt.Sprint(got)
	return p
}
