# One line for a harbour: its highest and lowest water and its mean range.
BEGIN { FS = ","; top = -99; bottom = 99 }
FNR == 1 { next }
$3 == "high" { highs += $4; nh++; if ($4 > top) { top = $4; topday = $1 " " $2 } }
$3 == "low" { lows += $4; nl++; if ($4 < bottom) { bottom = $4; lowday = $1 " " $2 } }
END { printf "%s,%.2f,%s,%.2f,%s,%.2f\n", port, top, topday, bottom, lowday, highs / nh - lows / nl }
