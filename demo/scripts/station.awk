# A simulated tide gauge: the height at one moment, from two tides of invented size.
# seconds is the time since 1970.
BEGIN {
    turn = 2 * 3.14159265
    height = 2.6 + 1.9 * sin(turn * seconds / 44712) + 0.3 * sin(turn * seconds / 43200)
    printf "%.3f\n", height
}
