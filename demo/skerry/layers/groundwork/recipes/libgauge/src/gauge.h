#ifndef GAUGE_H
#define GAUGE_H

/* One reading: seconds since midnight, and the water's height in centimetres above chart datum. */
struct gauge_reading {
	long second;
	long height;
};

/* Parses "HH:MM:SS HEIGHT". Returns 0 when it is one, -1 when it is not. */
int gauge_parse(const char *line, struct gauge_reading *reading);

#endif
