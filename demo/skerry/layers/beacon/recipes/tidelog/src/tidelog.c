/* Reads the day's readings and answers every TCP connection with a report in plain text. */
#include <arpa/inet.h>
#include <errno.h>
#include <gauge.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct day {
	long count, bad, sum;
	struct gauge_reading low, high, last;
};

static int read_day(const char *path, struct day *day)
{
	char line[128];
	FILE *file = fopen(path, "r");
	if (!file) {
		fprintf(stderr, "tidelog: %s: %s\n", path, strerror(errno));
		return -1;
	}
	memset(day, 0, sizeof *day);
	while (fgets(line, sizeof line, file)) {
		struct gauge_reading r;
		if (line[0] == '\n')
			continue;
		if (gauge_parse(line, &r)) {
			day->bad++;
			continue;
		}
		if (!day->count || r.height < day->low.height)
			day->low = r;
		if (!day->count || r.height > day->high.height)
			day->high = r;
		day->last = r;
		day->sum += r.height;
		day->count++;
	}
	fclose(file);
	return 0;
}

static void clock_of(long second, char text[9])
{
	snprintf(text, 9, "%02ld:%02ld:%02ld", second / 3600, second / 60 % 60, second % 60);
}

static int report(const struct day *day, char *text, size_t room)
{
	char low[9], high[9], last[9];
	if (!day->count)
		return snprintf(text, room, "no readings, %ld unreadable\n", day->bad);
	clock_of(day->low.second, low);
	clock_of(day->high.second, high);
	clock_of(day->last.second, last);
	return snprintf(text, room,
			"readings %ld, unreadable %ld\nlow  %ld cm at %s\nhigh %ld cm at %s\nmean %ld cm\nlast %ld cm at %s\n",
			day->count, day->bad, day->low.height, low, day->high.height, high, day->sum / day->count,
			day->last.height, last);
}

static int serve(int port, const char *path)
{
	struct sockaddr_in at = { .sin_family = AF_INET, .sin_port = htons(port), .sin_addr.s_addr = htonl(INADDR_ANY) };
	int one = 1, listener = socket(AF_INET, SOCK_STREAM, 0);
	setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
	if (listener < 0 || bind(listener, (struct sockaddr *)&at, sizeof at) || listen(listener, 8)) {
		fprintf(stderr, "tidelog: port %d: %s\n", port, strerror(errno));
		return 1;
	}
	signal(SIGPIPE, SIG_IGN);
	for (;;) {
		struct day day;
		char text[512];
		int client = accept(listener, 0, 0);
		if (client < 0)
			continue;
		if (!read_day(path, &day)) {
			int length = report(&day, text, sizeof text);
			if (write(client, text, length) < 0)
				perror("tidelog");
		}
		close(client);
	}
}

int main(int argc, char **argv)
{
	const char *path = "readings.txt";
	int port = 0;
	for (int i = 1; i + 1 < argc; i += 2) {
		if (!strcmp(argv[i], "--readings"))
			path = argv[i + 1];
		else if (!strcmp(argv[i], "--port"))
			port = atoi(argv[i + 1]);
		else {
			fprintf(stderr, "tidelog: unknown option %s\n", argv[i]);
			return 2;
		}
	}
	if (port)
		return serve(port, path);
	struct day day;
	char text[512];
	if (read_day(path, &day))
		return 1;
	report(&day, text, sizeof text);
	fputs(text, stdout);
	return 0;
}
