/* The little of the UEFI specification 2.10 that the monitor needs; sections are named where a table comes from. */
typedef unsigned char u8;
typedef unsigned short u16;
typedef unsigned int u32;
typedef unsigned long long u64;
typedef u64 status;
#define EFI __attribute__((ms_abi))

struct guid {
	u32 a;
	u16 b, c;
	u8 d[8];
};

/* 12.4 Simple Text Output Protocol */
struct text_output {
	void *reset;
	status(EFI *output_string)(struct text_output *, const u16 *);
};

/* 13.5 File Protocol */
struct file {
	u64 revision;
	status(EFI *open)(struct file *, struct file **, const u16 *name, u64 mode, u64 attributes);
	status(EFI *close)(struct file *);
	void *delete;
	status(EFI *read)(struct file *, u64 *size, void *buffer);
};

/* 13.4 Simple File System Protocol */
struct file_system {
	u64 revision;
	status(EFI *open_volume)(struct file_system *, struct file **);
};

/* 9.1 Loaded Image Protocol */
struct loaded_image {
	u32 revision;
	void *parent, *system_table, *device;
};

/* 4.4 Boot Services Table */
struct boot_services {
	u8 header[24];
	void *before_handle_protocol[16];
	status(EFI *handle_protocol)(void *handle, const struct guid *, void **interface);
	void *before_stall[11];
	status(EFI *stall)(u64 microseconds);
};

/* 4.5 Runtime Services Table */
struct runtime_services {
	u8 header[24];
	void *before_reset_system[10];
	void(EFI *reset_system)(u32 type, status, u64 size, void *data);
};

/* 4.3 System Table */
struct system_table {
	u8 header[24];
	u16 *vendor;
	u32 revision;
	void *input_handle, *input, *output_handle;
	struct text_output *output;
	void *error_handle, *error;
	struct runtime_services *runtime;
	struct boot_services *boot;
};

static const struct guid loaded_image_guid = { 0x5b1b31a1, 0x9562, 0x11d2, { 0x8e, 0x3f, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b } };
static const struct guid file_system_guid = { 0x964e5b22, 0x6459, 0x11d2, { 0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b } };
