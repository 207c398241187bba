/*
 * What the portable program has in place of glibc's conversion modules, which are files of the machine and fit one glibc each: iconv between
 * UTF-16LE, Latin-1 and UTF-8, as libhivex uses it. Behaves as glibc does, EILSEQ, EINVAL and E2BIG included; a test compares both.
 * Also the converters of ICU that Debian's libxml2 refers to: there are none, and libxml2 reads UTF-8 and UTF-16 by itself.
 */
#include <errno.h>
#include <iconv.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

enum form { FORM_NONE, UTF16LE, LATIN1, UTF8 };

struct conversion { enum form to, from; };

#define INVALID (-1)
#define INCOMPLETE (-2)

static enum form form_of(const char *name)
{
    if (!strcasecmp(name, "UTF-16LE") || !strcasecmp(name, "UTF16LE")) return UTF16LE;
    if (!strcasecmp(name, "LATIN1") || !strcasecmp(name, "ISO-8859-1")) return LATIN1;
    if (!strcasecmp(name, "UTF-8") || !strcasecmp(name, "UTF8")) return UTF8;
    return FORM_NONE;
}

iconv_t iconv_open(const char *to, const char *from)
{
    enum form out = form_of(to), in = form_of(from);
    if (out == FORM_NONE || in == FORM_NONE) { errno = EINVAL; return (iconv_t)-1; }
    struct conversion *made = malloc(sizeof *made);
    if (!made) return (iconv_t)-1;
    made->to = out;
    made->from = in;
    return made;
}

int iconv_close(iconv_t conversion)
{
    free(conversion);
    return 0;
}

/* Takes a character; gives its number of bytes, INVALID or INCOMPLETE. */
static int take(enum form form, const uint8_t *at, size_t left, uint32_t *character)
{
    if (form == LATIN1) { *character = at[0]; return 1; }
    if (form == UTF16LE)
    {
        if (left < 2) return INCOMPLETE;
        uint32_t unit = at[0] | (uint32_t)at[1] << 8;
        if (unit < 0xD800 || unit > 0xDFFF) { *character = unit; return 2; }
        if (unit > 0xDBFF) return INVALID;
        if (left < 4) return INCOMPLETE;
        uint32_t low = at[2] | (uint32_t)at[3] << 8;
        if (low < 0xDC00 || low > 0xDFFF) return INVALID;
        *character = 0x10000 + ((unit - 0xD800) << 10) + (low - 0xDC00);
        return 4;
    }
    if (at[0] < 0x80) { *character = at[0]; return 1; }
    /* Five bytes and six were allowed once: glibc still takes them, and has nothing to put for them. */
    int length = at[0] >= 0xC2 && at[0] <= 0xDF ? 2 : (at[0] & 0xF0) == 0xE0 ? 3 : (at[0] & 0xF8) == 0xF0 ? 4
        : (at[0] & 0xFC) == 0xF8 ? 5 : (at[0] & 0xFE) == 0xFC ? 6 : 0;
    if (!length) return INVALID;
    uint32_t value = at[0] & (0x7F >> length);
    for (int i = 1; i < length; i++)
    {
        if ((size_t)i == left) return INCOMPLETE;
        if ((at[i] & 0xC0) != 0x80) return INVALID;
        value = value << 6 | (at[i] & 0x3F);
    }
    /* Forms that are too long, and surrogates. */
    if ((length > 2 && value >> (5 * length - 4) == 0) || (value >= 0xD800 && value <= 0xDFFF)) return INVALID;
    *character = value;
    return length;
}

/* Puts a character; gives its number of bytes, or INVALID, or INCOMPLETE where it has no room. */
static int put(enum form form, uint8_t *at, size_t left, uint32_t character)
{
    if (left < (form == UTF16LE ? 2u : 1u)) return INCOMPLETE;
    if (character > 0x10FFFF) return INVALID;
    if (form == LATIN1)
    {
        if (character >> 7 == 0xE0000 >> 7) return 0; /* tags of languages are left out */
        if (character > 0xFF) return INVALID;
        at[0] = character;
        return 1;
    }
    if (form == UTF16LE)
    {
        if (left < (character < 0x10000 ? 2u : 4u)) return INCOMPLETE;
        if (character < 0x10000) { at[0] = character; at[1] = character >> 8; return 2; }
        uint32_t high = 0xD800 + ((character - 0x10000) >> 10), low = 0xDC00 + ((character - 0x10000) & 0x3FF);
        at[0] = high; at[1] = high >> 8; at[2] = low; at[3] = low >> 8;
        return 4;
    }
    int length = character < 0x80 ? 1 : character < 0x800 ? 2 : character < 0x10000 ? 3 : 4;
    if (left < (size_t)length) return INCOMPLETE;
    if (length == 1) { at[0] = character; return 1; }
    for (int i = length - 1; i > 0; i--) { at[i] = 0x80 | (character & 0x3F); character >>= 6; }
    at[0] = (0xF00 >> length & 0xFF) | character;
    return length;
}

size_t iconv(iconv_t handle, char **in, size_t *in_left, char **out, size_t *out_left)
{
    const struct conversion *conversion = handle;
    if (!in || !*in) return 0;
    while (*in_left)
    {
        uint32_t character;
        int taken = take(conversion->from, (const uint8_t *)*in, *in_left, &character);
        if (taken < 0) { errno = taken == INVALID ? EILSEQ : EINVAL; return (size_t)-1; }
        int made = put(conversion->to, (uint8_t *)*out, *out_left, character);
        if (made < 0) { errno = made == INVALID ? EILSEQ : E2BIG; return (size_t)-1; }
        *in += taken; *in_left -= taken;
        *out += made; *out_left -= made;
    }
    return 0;
}

#define NO_CONVERTER(name) void name##_72(void) { abort(); }

void *ucnv_open_72(const char *name, int *error) { (void)name; *error = 4; return NULL; }
NO_CONVERTER(ucnv_close)
NO_CONVERTER(ucnv_convertEx)
NO_CONVERTER(ucnv_setFromUCallBack)
NO_CONVERTER(ucnv_setToUCallBack)
NO_CONVERTER(UCNV_FROM_U_CALLBACK_STOP)
NO_CONVERTER(UCNV_TO_U_CALLBACK_STOP)
