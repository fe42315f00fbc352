# Finds the high and low waters of one harbour in its hourly readings. A high
# water is a reading above its two neighbours on either side; the time between
# the full hours comes from the parabola through it and its nearest neighbours.
BEGIN { FS = ","; print "day,time,kind,height_m" }
NR > 1 { n++; when[n] = $1; height[n] = $2 + 0 }
END {
    for (i = 3; i <= n - 2; i++) {
        high = height[i] >= height[i-1] && height[i] > height[i+1] && height[i] > height[i-2] && height[i] > height[i+2]
        low = height[i] <= height[i-1] && height[i] < height[i+1] && height[i] < height[i-2] && height[i] < height[i+2]
        if (!high && !low) continue
        bend = height[i-1] - 2 * height[i] + height[i+1]
        shift = bend == 0 ? 0 : (height[i-1] - height[i+1]) / (2 * bend)
        peak = height[i] - (height[i-1] - height[i+1]) * shift / 4
        minutes = substr(when[i], 12, 2) * 60 + int(shift * 60)
        if (minutes < 0) minutes = 0
        if (minutes > 1439) minutes = 1439
        printf "%s,%02d:%02d,%s,%.2f\n", substr(when[i], 1, 10), int(minutes / 60), minutes % 60, high ? "high" : "low", peak
    }
}
