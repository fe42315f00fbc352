# Writes the index: reads harbours.csv, then the summary.
BEGIN { FS = "," }
file == 0 && FNR == 1 { file = 1; next }
file == 1 && FNR == 1 { file = 2 }
file == 1 { name[$1] = $2; coast[$1] = $3; about[$1] = $4; next }
{ order[++n] = $1; top[$1] = $2; topday[$1] = $3; low[$1] = $4; lowday[$1] = $5; range[$1] = $6 }
END {
    print "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\">"
    printf "<title>Harbour almanac %s</title>\n", edition
    print "<link rel=\"stylesheet\" href=\"almanac.css\">"
    printf "<header><h1>Harbour almanac</h1><p>Tides of five harbours, edition %s, by %s.</p></header><main class=\"cards\">\n", edition, ENVIRON["PUBLISHER"]
    for (i = 1; i <= n; i++) {
        p = order[i]
        printf "<a class=\"card\" href=\"%s.html\"><h2>%s</h2><p>%s.</p><img src=\"%s.svg\" alt=\"\">", p, name[p], about[p], p
        printf "<dl><dt>Highest</dt><dd>%s m <i>%s</i></dd><dt>Lowest</dt><dd>%s m <i>%s</i></dd><dt>Mean range</dt><dd>%s m</dd></dl></a>\n", top[p], topday[p], low[p], lowday[p], range[p]
    }
    print "</main><p class=\"key\"><a href=\"notices.html\">Notices to mariners</a></p></html>"
}
