# Prints by which name a table of encrypted volumes has the one of a UUID opened; where it
# names but one, that one's; else another word, and for what is no plain name. crypttab(5).
BEGIN { uuid = tolower(ENVIRON["uuid"]) }
/^[ \t]*#/ || NF < 2 { next }
{ lines++; only = $1 }
index(tolower($2), uuid) { name = $1 }
END {
  if (name == "" && lines == 1) name = only
  print name ~ /^[A-Za-z0-9_][A-Za-z0-9_.+-]*$/ ? name : ENVIRON["else"]
}
