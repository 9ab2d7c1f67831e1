/* The surge of a storm in the basin, worked out on ever finer parts of it: parts that rise are split, parts that fall are joined. */
#include <stdio.h>
#include <stdlib.h>

static double wind_at(int part) { return (double)(part * 2654435761u % 1000u) / 1000.0; }

static double falling(double level, int steps);

/* The water of a part while the wind pushes it up. */
static double rising(double level, int steps)
{
    if (steps == 0) {
        return level;
    }
    level += 0.01 * wind_at(steps);
    return level > 1.0 ? falling(level, steps - 1) : rising(level, steps - 1);
}

/* The water of a part while it runs off. */
static double falling(double level, int steps)
{
    if (steps == 0) {
        return level;
    }
    level -= 0.02 * wind_at(steps);
    return level < 0.5 ? rising(level, steps - 1) : falling(level, steps - 1);
}

/* The level of a part of the basin, from those of its halves. */
static double level_of(int part, int depth)
{
    if (depth < 2) {
        return rising(wind_at(part), 8);
    }
    return 0.5 * (level_of(2 * part, depth - 1) + level_of(2 * part + 1, depth - 2));
}

int main(int argc, char **argv)
{
    int depth = argc > 1 ? atoi(argv[1]) : 18;
    printf("surge: %.3f m\n", level_of(1, depth));
    return 0;
}
