# A stack machine: `stack` holds values, `frame` the variables of each call.
function pop() { return stack[top--] }
function push(value) { stack[++top] = value }
NR == 2 { entry = $2 }
NR > 2 { code[size++] = $0 }
END {
    at = entry; depth = 0; top = 0
    while (at < size) {
        n = split(code[at++], op, " ")
        if (++steps > 10000000) { print "tidlow: this goes on for too long" > "/dev/stderr"; exit 1 }
        if (op[1] == "push") push(op[2] + 0)
        else if (op[1] == "load") push(frame[depth, op[2]] + 0)
        else if (op[1] == "store") frame[depth, op[2]] = pop()
        else if (op[1] == "say") print substr(code[at - 1], 5)
        else if (op[1] == "show") print pop()
        else if (op[1] == "goto") at = op[2]
        else if (op[1] == "unless") { if (pop() == 0) at = op[2] }
        else if (op[1] == "call") {
            back[++depth] = at; at = op[2]
            for (i = op[3] - 1; i >= 0; i--) frame[depth, i] = pop()
        }
        else if (op[1] == "return") { if (depth == 0) exit 0; at = back[depth--] }
        else {
            b = pop(); a = pop()
            if (op[1] == "add") push(a + b)
            else if (op[1] == "sub") push(a - b)
            else if (op[1] == "mul") push(a * b)
            else if (op[1] == "less") push(a < b)
            else if (op[1] == "more") push(a > b)
            else if (op[1] == "same") push(a == b)
            else if (b == 0) { print "tidlow: division by zero" > "/dev/stderr"; exit 1 }
            else if (op[1] == "div") push(int(a / b))
            else push(a % b)
        }
    }
}
