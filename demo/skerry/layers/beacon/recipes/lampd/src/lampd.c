/* Prints one period of the lamp: a line a second, as the relay would be switched. */
#include <stdio.h>
#include <string.h>

int main(int argc, char **argv)
{
	const char *pattern = argc > 1 ? argv[1] : "X.X.......";
	if (strspn(pattern, "X.") != strlen(pattern)) {
		fprintf(stderr, "lampd: a pattern has X for light and . for dark, not `%s`\n", pattern);
		return 2;
	}
	for (size_t second = 0; pattern[second]; second++)
		printf("%3zu %s\n", second, pattern[second] == 'X' ? "on" : "off");
	return 0;
}
