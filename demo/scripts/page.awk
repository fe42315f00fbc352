# Writes the page of one harbour: reads harbours.csv, then the harbour's tides.
BEGIN { FS = "," }
FNR == 1 { file++; next }
file == 1 && $1 == port { name = $2; coast = $3; about = $4 }
file == 2 {
    if ($1 != day) { day = $1; order[++days] = day }
    cells[day] = cells[day] sprintf("<td class=\"%s\"><b>%s</b> %s m</td>", $3, $2, $4)
}
END {
    print "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\">"
    printf "<title>%s · Harbour almanac %s</title>\n", name, edition
    print "<link rel=\"stylesheet\" href=\"almanac.css\">"
    printf "<header><a href=\"index.html\">Harbour almanac</a><h1>%s</h1><p>%s. %s coast, edition %s.</p></header>\n", name, about, toupper(substr(coast, 1, 1)) substr(coast, 2), edition
    printf "<main><img class=\"chart\" src=\"%s.svg\" alt=\"Tides at %s\">\n", port, name
    print "<h2>High and low waters</h2><p class=\"key\"><span class=\"high\">high water</span> <span class=\"low\">low water</span></p><table>"
    for (i = 1; i <= days; i++) printf "<tr><th>%s</th>%s</tr>\n", order[i], cells[order[i]]
    print "</table></main></html>"
}
