/* The boot monitor: says which image this is, reads the beacon's settings, shows the lamp's pattern, switches off. */
#include "efi.h"

static struct system_table *sys;
static struct file *volume;

static void say(const char *text)
{
	u16 wide[2] = { 0, 0 };
	for (; *text; text++) {
		if (*text == '\n') {
			wide[0] = '\r';
			sys->output->output_string(sys->output, wide);
		}
		wide[0] = (u8)*text;
		sys->output->output_string(sys->output, wide);
	}
}

/* Reads a text file whole, as far as the buffer goes. Returns its length, 0 when it is not there. */
static u64 read_file(const u16 *name, char *buffer, u64 room)
{
	struct file *file;
	u64 size = room - 1;
	if (!volume || volume->open(volume, &file, name, 1, 0))
		return 0;
	if (file->read(file, &size, buffer))
		size = 0;
	file->close(file);
	buffer[size] = 0;
	return size;
}

/* Finds KEY at the start of a line, skips what stands between it and its value, copies the value. */
static int value_of(const char *text, const char *key, char *value, u64 room)
{
	for (const char *line = text; *line;) {
		const char *at = line, *k = key;
		while (*k && *at == *k)
			at++, k++;
		if (!*k && (*at == '=' || *at == ' ')) {
			u64 n = 0;
			while (*at == ' ' || *at == '=' || *at == '"')
				at++;
			while (*at && *at != '\n' && *at != '"' && n + 1 < room)
				value[n++] = *at++;
			value[n] = 0;
			return 1;
		}
		while (*line && *line != '\n')
			line++;
		if (*line)
			line++;
	}
	value[0] = 0;
	return 0;
}

static void tell(const char *label, const char *text, const char *key)
{
	char value[128];
	say(label);
	say(value_of(text, key, value, sizeof value) ? value : "not known");
	say("\n");
}

/* Firmware loads the program where it likes; these absolute addresses make the linker write the table it needs. */
static const char *const lamp_states[] = { "  lamp [      ]\n", "  lamp [ **** ]\n" };

status EFI efi_main(void *image, struct system_table *table)
{
	static char release[2048], settings[2048];
	char pattern[64];
	struct loaded_image *loaded;
	struct file_system *fs;

	sys = table;
	if (!sys->boot->handle_protocol(image, &loaded_image_guid, (void **)&loaded)
	    && !sys->boot->handle_protocol(loaded->device, &file_system_guid, (void **)&fs))
		fs->open_volume(fs, &volume);

	say("\nSkerry boot monitor\n");
	read_file(L"\\usr\\lib\\os-release", release, sizeof release);
	tell("  image   ", release, "IMAGE_ID");
	tell("  version ", release, "IMAGE_VERSION");
	tell("  input   ", release, "EMBRAK_INPUT");
	if (!read_file(L"\\etc\\beacon.conf", settings, sizeof settings))
		say("  there is no /etc/beacon.conf\n");
	tell("  station ", settings, "station");
	if (value_of(settings, "pattern", pattern, sizeof pattern))
		for (const char *p = pattern; *p; p++) {
			say(lamp_states[*p == 'X']);
			sys->boot->stall(60000);
		}
	say("beacon ready\n");
	sys->boot->stall(100000);
	sys->runtime->reset_system(2, 0, 0, 0);
	return 0;
}
