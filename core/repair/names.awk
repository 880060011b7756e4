# Puts new names of file systems in the place of old ones, where they stand as a whole.
# names: an old name and its new one, and so on. Identifiers are found in any case.
function edge(c) { return c !~ /[0-9A-Za-z_-]/ }
BEGIN { n = split(ENVIRON["names"], name, " ") }
/^[ \t]*#/ { print; next }
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
  print
}
