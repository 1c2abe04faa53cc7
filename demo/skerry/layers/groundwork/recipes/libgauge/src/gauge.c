#include "gauge.h"

static const char *number(const char *text, long *value)
{
	long sign = 1, sum = 0;
	if (*text == '-') {
		sign = -1;
		text++;
	}
	if (*text < '0' || *text > '9')
		return 0;
	for (; *text >= '0' && *text <= '9'; text++) {
		if (sum > 99999)
			return 0;
		sum = sum * 10 + (*text - '0');
	}
	*value = sign * sum;
	return text;
}

int gauge_parse(const char *line, struct gauge_reading *reading)
{
	long part[3];
	for (int i = 0; i < 3; i++) {
		line = number(line, &part[i]);
		if (!line || *line++ != (i < 2 ? ':' : ' '))
			return -1;
	}
	if (part[0] < 0 || part[0] > 23 || part[1] < 0 || part[1] > 59 || part[2] < 0 || part[2] > 59)
		return -1;
	line = number(line, &reading->height);
	if (!line || (*line && *line != '\n'))
		return -1;
	reading->second = part[0] * 3600 + part[1] * 60 + part[2];
	return 0;
}
