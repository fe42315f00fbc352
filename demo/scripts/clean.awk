# Keeps the good readings of one gauge: a number between -2 and 15 metres.
# The count of the others goes to stderr. A gauge without a good reading fails.
BEGIN { FS = "," }
NR == 1 { print; next }
$2 ~ /^-?[0-9]+\.[0-9]+$/ && $2 > -2 && $2 < 15 { print; good++; next }
{ bad++ }
END {
    printf "%s: %d good readings, %d dropped\n", port, good, bad | "cat 1>&2"
    if (good == 0) exit 1
}
