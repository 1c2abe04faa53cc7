#include "gauge.h"
#include <stdio.h>

static int expect(const char *line, int result, long second, long height)
{
	struct gauge_reading r = { 0, 0 };
	if (gauge_parse(line, &r) == result && (result || (r.second == second && r.height == height)))
		return 0;
	printf("wrong: %s\n", line);
	return 1;
}

int main(void)
{
	return expect("00:00:00 0", 0, 0, 0) + expect("23:59:59 -12\n", 0, 86399, -12) + expect("06:30:00 312", 0, 23400, 312)
	     + expect("24:00:00 1", -1, 0, 0) + expect("6:30 312", -1, 0, 0) + expect("", -1, 0, 0) + expect("06:30:00 x", -1, 0, 0);
}
