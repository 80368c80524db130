# Compiles one Skerrow module. The language is described in doc/skerrow.txt.
function fail(message) {
    printf "%s:%d: %s\n", source, NR, message > "/dev/stderr"
    failed = 1
    exit 1
}
function emit(op) { if (!inside) fail("a statement stands outside of a function"); code[++length_] = op }
function slot(name) {
    if (!(name in slots)) fail("`" name "` is not known here")
    return slots[name]
}
function tokens(text,    piece) {
    count = 0; at = 1
    while (text !~ /^[ \t]*$/) {
        sub(/^[ \t]+/, "", text)
        if (!match(text, /^([0-9]+|[a-z_][a-z0-9_.]*|[-+*\/%()<>=,])/)) fail("cannot read `" text "`")
        token[++count] = substr(text, 1, RLENGTH)
        text = substr(text, RLENGTH + 1)
    }
    token[count + 1] = ""
}
function expression(text) { tokens(text); compare(); if (at <= count) fail("`" token[at] "` is not expected here") }
function compare(    op) {
    sum()
    op = token[at]
    if (op ~ /^[<>=]$/) { at++; sum(); emit(op == "<" ? "less" : op == ">" ? "more" : "same") }
}
function sum(    op) {
    product()
    while (token[at] ~ /^[-+]$/) { op = token[at++]; product(); emit(op == "+" ? "add" : "sub") }
}
function product(    op) {
    factor()
    while (token[at] ~ /^[*\/%]$/) { op = token[at++]; factor(); emit(op == "*" ? "mul" : op == "/" ? "div" : "rest") }
}
function factor(    name, arguments) {
    name = token[at++]
    if (name ~ /^[0-9]/) emit("push " name)
    else if (name == "-") { emit("push 0"); factor(); emit("sub") }
    else if (name == "(") { compare(); want(")") }
    else if (name !~ /^[a-z_]/) fail("a value is missing")
    else if (token[at] != "(") emit("load " slot(name))
    else {
        at++; arguments = 0
        while (token[at] != ")" && at <= count) {
            compare(); arguments++
            if (token[at] == ",") at++
        }
        want(")")
        emit("call " (index(name, ".") ? name : module "." name) " " arguments)
    }
}
function want(sign) { if (token[at++] != sign) fail("`" sign "` is missing") }
function open(symbol, parameters,    i, n, names) {
    if (inside) fail("a function ends with `end` before the next begins")
    if (module == "") fail("a module begins with `module NAME`")
    inside = 1; depth = 0; variables = 0; split("", slots)
    n = split(parameters, names, /[ \t]*,[ \t]*/)
    for (i = 1; i <= n; i++) slots[names[i]] = variables++
    code[++length_] = "function " symbol " " n
}
BEGIN { length_ = 0; inside = 0; labels = 0 }
{ sub(/\r$/, "") }
/^[ \t]*(;|$)/ { next }
$1 == "module" { module = $2; next }
$1 == "use" { next }
$1 == "start" { open("start", ""); next }
$1 == "export" {
    text = $0; sub(/^[ \t]*export[ \t]+/, "", text)
    if (text !~ /^[a-z_][a-z0-9_]*\(.*\)[ \t]*$/) fail("write `export NAME(PARAMETERS)`")
    name = text; sub(/\(.*/, "", name)
    sub(/^[^(]*\(/, "", text); sub(/\)[ \t]*$/, "", text)
    open(module "." name, text); next
}
$1 == "let" {
    text = $0
    if (text !~ /^[ \t]*let[ \t]+[a-z_][a-z0-9_]*[ \t]*=/) fail("write `let NAME = VALUE`")
    name = $2; sub(/=.*/, "", name)
    sub(/^[^=]*=/, "", text); expression(text)
    if (!(name in slots)) slots[name] = variables++
    emit("store " slots[name]); next
}
$1 == "say" {
    text = $0; sub(/^[ \t]*say[ \t]*/, "", text)
    if (text !~ /^".*"[ \t]*$/) fail("write `say \"TEXT\"`")
    sub(/^"/, "", text); sub(/"[ \t]*$/, "", text)
    emit("say " text); next
}
$1 == "show" || $1 == "give" {
    text = $0; sub(/^[ \t]*(show|give)/, "", text); expression(text)
    emit($1 == "show" ? "show" : "return"); next
}
$1 == "while" || $1 == "if" {
    kind[++depth] = $1; label[depth] = ++labels
    if ($1 == "while") emit("label " module ".again" labels)
    text = $0; sub(/^[ \t]*(while|if)/, "", text); expression(text)
    emit("unless " module ".past" labels); next
}
$1 == "end" {
    if (depth > 0) {
        if (kind[depth] == "while") emit("goto " module ".again" label[depth])
        emit("label " module ".past" label[depth]); depth--
    } else if (inside) { emit("push 0"); emit("return"); code[++length_] = "end"; inside = 0 }
    else fail("`end` ends nothing here")
    next
}
{ fail("`" $1 "` begins no statement") }
END {
    if (failed) exit 1
    if (inside) fail("`end` is missing")
    print "skerrow-object 1 from " compiler
    print "module " module
    for (i = 1; i <= length_; i++) print code[i]
}
