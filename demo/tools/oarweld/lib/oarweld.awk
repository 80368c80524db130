# Reads all objects twice: once for addresses, once to write code with them.
BEGIN { place = 0 }
function fail(message) { print "oarweld: " message > "/dev/stderr"; failed = 1; exit 1 }
$1 == "skerrow-object" || $1 == "module" || $1 == "end" { next }
FNR == NR {
    if ($1 == "function") {
        if ($2 in address) fail("`" $2 "` is there twice")
        address[$2] = place; parameters[$2] = $3; next
    }
    if ($1 == "label") { address[$2] = place; next }
    place++
    next
}
!headed {
    if (!("start" in address)) fail("no module has a `start`")
    print "skerrow-image 1"
    print "entry " address["start"]
    headed = 1
}
$1 == "function" || $1 == "label" { next }
$1 == "call" {
    if (!($2 in address)) fail("nothing exports `" $2 "`")
    if (parameters[$2] != $3) fail("`" $2 "` takes " parameters[$2] " values, not " $3)
    print "call " address[$2] " " $3; next
}
$1 == "goto" || $1 == "unless" { print $1 " " address[$2]; next }
{ print }
END { if (!headed && !failed) fail("there is nothing to link") }
