# Puts new names of file systems in the place of old ones, where they stand as a whole.
# names: an old name and its new one, and so on. Identifiers are found in any case.
# GRUB's block of variables keeps its length, by signs at its end; where that is too short nothing is written.
function edge(c) { return c !~ /[0-9A-Za-z_-]/ }
function put(text) { if (block) kept = kept text "\n"; else print text }
BEGIN { n = split(ENVIRON["names"], name, " ") }
NR == 1 && $0 == "# GRUB Environment Block" { block = 1 }
block && NR > 1 && /^#+$/ { next }
/^[ \t]*#/ { put($0); next }
{
  for (i = 1; i < n; i += 2) {
    old = name[i]
    any = old ~ /^[0-9A-Fa-f-]+$/
    done = ""
    rest = $0
    while (at = any ? index(tolower(rest), tolower(old)) : index(rest, old)) {
      before = at > 1 ? substr(rest, at - 1, 1) : substr(done, length(done), 1)
      whole = edge(before) && edge(substr(rest, at + length(old), 1))
      done = done substr(rest, 1, at - 1) (whole ? name[i + 1] : substr(rest, at, length(old)))
      rest = substr(rest, at + length(old))
    }
    $0 = done rest
  }
  put($0)
}
END {
  if (!block) exit
  if (length(kept) > 1024) exit 1
  while (length(kept) < 1024) kept = kept "#"
  printf "%s", kept
}
