# Lets a boot configuration name one file system. root: its UUID.
function put(from, length_, new) { $0 = substr($0, 1, from - 1) new substr($0, from + length_) }
BEGIN { root = ENVIRON["root"] "" }
{
  if (match($0, /root=(UUID|PARTUUID|LABEL)=[^ ]+/)) put(RSTART, RLENGTH, "root=UUID=" root)
  if (match($0, /root=\/dev\/[^ ]+/)) put(RSTART, RLENGTH, "root=UUID=" root)
  if (match($0, /search(\.fs_uuid)? /)) {
    last = 0
    at = RSTART + RLENGTH
    while (match(substr($0, at), /[0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F]-[0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F]-[0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F]-[0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F]-[0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F][0-9a-fA-F]/)) {
      last = at + RSTART - 1
      at = last + RLENGTH
    }
    if (last) put(last, 36, root)
  }
  print
}
