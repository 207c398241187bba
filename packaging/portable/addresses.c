/*
 * Addresses of what libntfs-3g has other than functions: in a shared library they are found by name, in the portable program by this.
 */
extern char AT_UNNAMED[], NTFS_INDEX_I30[];
extern int ntfs_log_handler_null();

void *moorfield_address_unnamed(void) { return AT_UNNAMED; }
void *moorfield_address_names(void) { return NTFS_INDEX_I30; }
void *moorfield_address_silence(void) { return (void *)ntfs_log_handler_null; }
