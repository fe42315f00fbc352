# Draws the month of one harbour as an SVG: the readings as a line, a grid of
# days and metres.
function x(i) { return left + (i - 1) * (width - left - right) / (hours - 1) }
function y(h) { return top + (ceiling - h) * (tall - top - bottom) / (ceiling - floor) }
BEGIN {
    FS = ","; width = 960; tall = 330; left = 84; right = 12; top = 20; bottom = 48
    ceiling = -99; floor = 99
}
NR > 1 {
    day = substr($1, 9, 2) + 0; hour = substr($1, 12, 2) + 0
    n++; at[n] = (day - 1) * 24 + hour + 1; height[n] = $2 + 0
    if (height[n] > ceiling) ceiling = height[n]
    if (height[n] < floor) floor = height[n]
    if (day > days) days = day
}
END {
    hours = days * 24
    ceiling = int(ceiling + 1); floor = floor < 0 ? int(floor - 1) : int(floor)
    printf "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 %d %d\" role=\"img\" aria-label=\"Tides at %s\">\n", width, tall, port
    print "<style>text{font:28px sans-serif;fill:#52606d}.grid{stroke:#d9e2ec}.water{fill:#cfe3f1}.line{fill:none;stroke:#1f5f8b;stroke-width:1.8}</style>"
    step = ceiling - floor > 4 ? 2 : 1 # so that labels can be read in a small picture
    for (m = floor; m <= ceiling; m += step) {
        printf "<line class=\"grid\" x1=\"%d\" x2=\"%d\" y1=\"%.1f\" y2=\"%.1f\"/>", left, width - right, y(m), y(m)
        printf "<text x=\"%d\" y=\"%.1f\" text-anchor=\"end\">%d m</text>\n", left - 12, y(m) + 10, m
    }
    for (d = 1; d <= days; d += 5) {
        printf "<line class=\"grid\" x1=\"%.1f\" x2=\"%.1f\" y1=\"%d\" y2=\"%d\"/>", x((d - 1) * 24 + 1), x((d - 1) * 24 + 1), top, tall - bottom
        printf "<text x=\"%.1f\" y=\"%d\">%d</text>\n", x((d - 1) * 24 + 1) + 2, tall - bottom + 34, d
    }
    for (i = 1; i <= n; i++) path = path (i > 1 ? "L" : "M") sprintf("%.1f %.1f", x(at[i]), y(height[i]))
    printf "<path class=\"water\" d=\"%sL%.1f %dL%.1f %dZ\"/>\n", path, x(at[n]), tall - bottom, x(at[1]), tall - bottom
    printf "<path class=\"line\" d=\"%s\"/>\n</svg>\n", path
}
