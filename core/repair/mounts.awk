# Changes the lines of a mount table for one mount point, and fails when there is
# none, unless perhaps is set. point: as it is written there; old: what stands in its device, if that is told;
# device: what to mount, if that changes; type: as what, if that changes; lax: set when the start is to go on without it.
BEGIN { point = ENVIRON["point"] ""; old = tolower(ENVIRON["old"]); device = ENVIRON["device"] ""; lax = ENVIRON["lax"] ""; type = ENVIRON["type"] "" }
/^[ \t]*#/ || NF < 3 || ($2 "") != point || (old != "" && !index(tolower($1), old)) { print; next }
{
  found = 1
  if (device != "") {
    match($0, /[^ \t]+/)
    $0 = substr($0, 1, RSTART - 1) device substr($0, RSTART + RLENGTH)
  }
  if (type != "") {
    end = 0
    for (i = 1; i <= 3; i++) {
      match(substr($0, end + 1), /^[ \t]*[^ \t]+/)
      start = end
      end += RLENGTH
    }
    field = substr($0, start + 1, end - start)
    match(field, /^[ \t]*/)
    $0 = substr($0, 1, start + RLENGTH) type substr($0, end + 1)
  }
  if (lax != "") {
    if (NF < 4) $0 = $0 " defaults"
    end = 0
    for (i = 1; i <= 4; i++) {
      match(substr($0, end + 1), /^[ \t]*[^ \t]+/)
      end += RLENGTH
    }
    $0 = substr($0, 1, end) ",nofail" substr($0, end + 1)
  }
  print
}
END { exit !found && ENVIRON["perhaps"] == "" }
