# Writes the page of the notices: a heading, a sentence, then what other files say.
# Each file that it reads is listed in the file "list", a path a line.
BEGIN {
    folder = ARGV[1]; sub(/[^\/]*$/, "", folder)
    print "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\">"
    print "<title>Notices</title><link rel=\"stylesheet\" href=\"almanac.css\">"
}
FNR == 1 { print FILENAME >list }
FNR == 1 && NR == 1 { printf "<header><a href=\"index.html\">Harbour almanac</a><h1>%s</h1>\n", $0; next }
FNR == 2 && NR == 2 { printf "<p>%s</p></header><main><ul>\n", $0; next }
$1 == "include" {
    path = folder $2
    print path >list
    while ((getline line <path) > 0) printf "<li>%s</li>\n", line
    close(path)
    next
}
{ printf "<li>%s</li>\n", $0 }
END { print "</ul></main></html>" }
