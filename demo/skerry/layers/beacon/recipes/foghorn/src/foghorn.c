/* Decides how often the horn sounds, from the visibility in metres. */
#include <stdio.h>
#include <stdlib.h>

#ifdef BUILT
static const char built[] = "foghorn, built " BUILT;
#else
static const char built[] = "foghorn 1.2";
#endif

int main(int argc, char **argv)
{
	if (argc != 2) {
		printf("%s\nusage: foghorn VISIBILITY\n", built);
		return 2;
	}
	long metres = strtol(argv[1], 0, 10);
	if (metres >= 3700)
		puts("silent");
	else
		printf("every %ld seconds\n", metres < 900 ? 30L : 60L);
	return 0;
}
