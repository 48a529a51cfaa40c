/* Reading: a chunk surveyed for its records, and a block of records split into cells and read as values.
 *
 * read_block() takes whole records whose quotes survey() found in place. All positions are bytes in the block.
 */

#include "kernel.h"
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#define QUOTED 1u   /* the cell stood in quotes, which are not part of it */
#define DOUBLED 2u  /* it holds doubled quotes, each of which is one */

enum { VALUE = 0, BLANK = 1, ODD = 2, LOCAL = 3 };

/* Which of 64 bytes are `byte`, the first the least bit. */
static inline uint64_t bits_of(const uint8_t *data, uint8_t byte)
{
#if defined(__SSE2__)
    __m128i wanted = _mm_set1_epi8((char)byte);
    uint64_t found = 0;
    for (int k = 0; k < 4; k++) {
        __m128i here = _mm_loadu_si128((const __m128i *)(const void *)(data + 16 * k));
        found |= (uint64_t)(uint16_t)_mm_movemask_epi8(_mm_cmpeq_epi8(here, wanted)) << (16 * k);
    }
    return found;
#else
    uint64_t found = 0;
    for (int k = 0; k < 64; k++) found |= (uint64_t)(data[k] == byte) << k;
    return found;
#endif
}

/* For every bit, whether an odd number of bits is set up to it, its own included. */
static inline uint64_t odd_up_to(uint64_t bits)
{
    for (int shift = 1; shift < 64; shift *= 2) bits ^= bits << shift;
    return bits;
}

static inline int64_t ones(uint64_t bits)
{
    bits -= (bits >> 1) & 0x5555555555555555u;
    bits = (bits & 0x3333333333333333u) + ((bits >> 2) & 0x3333333333333333u);
    return (int64_t)((((bits + (bits >> 4)) & 0x0F0F0F0F0F0F0F0Fu) * 0x0101010101010101u) >> 56);
}

/* 64 bytes from `at`, or what there is of them, padded with zeros in `room`. */
static inline const uint8_t *sixty_four(const uint8_t *data, int64_t size, int64_t at, uint8_t *room)
{
    if (at + 64 <= size) return data + at;
    memset(room, 0, 64);
    memcpy(room, data + at, (size_t)(size - at));
    return room;
}

/* How often a byte stands in data. */
EXPORTED int64_t count_byte(const uint8_t *data, int64_t size, uint8_t byte)
{
    uint8_t room[64];
    int64_t found = 0;
    for (int64_t at = 0; at < size; at += 64) found += ones(bits_of(sixty_four(data, size, at, room), byte));
    if (byte == 0 && size % 64) found -= 64 - size % 64;
    return found;
}

/* A chunk that begins with a record, and the whole records in it.
 *
 * found: where the last whole record ends (all of the chunk, if `final`), how many line feeds stand before that, how
 * many of them in quotes, whether each quote there is at the edge of a field or doubled, and the bytes of the longest
 * record.
 */
EXPORTED void survey(const uint8_t *data, int64_t size, uint8_t delimiter, uint8_t quote, int32_t final, int64_t *found)
{
    uint8_t room[64];
    uint64_t inside_before = 0, edge_before = 1, close_before = 0; /* of the byte before the word */
    uint64_t open_close = 0;                                       /* a closing quote was the last byte */
    int64_t cut = 0, feeds = 0, inner = 0, longest = 0, last_end = 0;
    int64_t feeds_so_far = 0, inner_so_far = 0;
    int good = 1, good_so_far = 1;
    for (int64_t at = 0; at < size; at += 64) {
        const uint8_t *word = sixty_four(data, size, at, room);
        int64_t here = size - at < 64 ? size - at : 64;
        uint64_t quotes = bits_of(word, quote), lines = bits_of(word, '\n'), returns = bits_of(word, '\r');
        uint64_t inside = odd_up_to(quotes) ^ inside_before;
        uint64_t edges = bits_of(word, delimiter) | lines;
        uint64_t opening = quotes & inside, closing = quotes & ~inside;
        /* what stands behind: a line feed behind a return may be in the next word */
        uint64_t next_feed = (lines >> 1) | ((at + 64 < size && data[at + 64] == '\n') ? (uint64_t)1 << 63 : 0);
        uint64_t behind = edges | (returns & next_feed) | quotes;
        if (here < 64) behind |= (uint64_t)1 << here; /* the end of the chunk */
        uint64_t bad = opening & ~((edges << 1) | edge_before | (closing << 1) | close_before);
        bad |= (closing & 0x7FFFFFFFFFFFFFFFu) & ~(behind >> 1);
        if (open_close && !(behind & 1)) bad |= 1;
        uint64_t record_ends = lines & ~inside;
        /* the part of the word up to its last record end is settled with it */
        uint64_t ends = record_ends;
        while (ends) {
            int64_t end = at + __builtin_ctzll(ends) + 1;
            if (end - last_end > longest) longest = end - last_end;
            last_end = end;
            ends &= ends - 1;
        }
        if (record_ends) {
            int top = 63 - __builtin_clzll(record_ends);
            uint64_t upto = top == 63 ? ~(uint64_t)0 : ((uint64_t)1 << (top + 1)) - 1;
            good = good_so_far && !(bad & upto);
            cut = at + top + 1;
            feeds = feeds_so_far + ones(lines & upto);
            inner = inner_so_far + ones(lines & inside & upto);
        }
        good_so_far = good_so_far && !bad;
        feeds_so_far += ones(lines);
        inner_so_far += ones(lines & inside);
        inside_before = (uint64_t)0 - (inside >> 63);
        edge_before = edges >> 63;
        close_before = closing >> 63;
        open_close = closing >> 63;
    }
    if (final) {
        cut = size;
        feeds = feeds_so_far;
        inner = inner_so_far;
        good = good_so_far && !inside_before;
        if (size - last_end > longest) longest = size - last_end;
        if (size % 64 == 0 && open_close) good = good && 1; /* a closing quote may be the last byte */
    }
    found[0] = cut;
    found[1] = feeds;
    found[2] = inner;
    found[3] = good;
    found[4] = longest;
}

/* One cell of a row. */
typedef struct {
    int32_t start, end, flags;
} cell_t;

/* A field of a written form: which sign, where it stands, how wide it is, and whether it has no zeros before it. */
typedef struct {
    int32_t sign, at, width, brief;
} field_t;

enum { PLAIN_WIDTH = 24, WIDTH = 64, FIELDS = 10 };

/* A written form of moments, up to 64 bytes wide: `text` holds the literal bytes, at which `fixed` is not 0.
 *
 * A `plain` one has up to 24 bytes, and fields of two digits but for the year, which has four: `places` says where year,
 * month, day, hour, minute, and second stand, -1 for what is not written; `written` holds the literal bytes, and '0' for
 * digits; `literal` and `digit` are 255 where such a byte stands.
 */
typedef struct {
    int32_t width, plain;
    int32_t places[6];
    uint8_t written[PLAIN_WIDTH], literal[PLAIN_WIDTH], digit[PLAIN_WIDTH];
    uint8_t text[WIDTH], fixed[WIDTH];
    int32_t count, century;
    field_t fields[FIELDS];
    words_t months, months_short;
} form_t;

/* What is made of a column: how it is read, and where it goes.
 *
 * `out` has a number of 64 bits a row, of a decimal two, of a day one of 32 bits, and of words a bit, set for the first
 * `digits` of them; `state` says of each row whether it is a value, null, or odd; `odd` counts the latter. A moment that
 * may name its zone is in UTC where it does, and LOCAL where it does not. A text goes
 * to `text`, as long as the block, its ends to `edges`; the bit of what is null is taken from `valid`; `used` is how long it is.
 * `worded` are null for a word that is not empty, the first of them in the row `first_worded`.
 */
enum { SKIP = 0, TEXT = 1, INTEGER = 2, DECIMAL = 3, MOMENT = 4, WORD = 5, ZONED = 6 };

typedef struct {
    int32_t sort, digits, scale, mark, clock, form_count;
    const form_t *forms;
    words_t words;
    int64_t *out;
    uint8_t *state;
    uint8_t *text;
    int32_t *edges;
    uint8_t *valid;
    int64_t used, missing, odd, worded, first_worded;
} column_t;

typedef struct {
    const uint8_t *data;
    int64_t size;
    uint8_t quote;
    words_t nulls;
} block_t;

/* Eight bytes that end at `end`, of which the last `length` (1 to 8) are digits: their number in *out. */
static inline int eight_digits(const uint8_t *end, int32_t length, uint64_t *out)
{
    uint64_t word;
    memcpy(&word, end - 8, 8);
    int unused = 8 * (8 - length);
    word = ((word ^ 0x3030303030303030u) >> unused) << unused;
    if ((((word + 0x0606060606060606u) | word) & 0xF0F0F0F0F0F0F0F0u) != 0) return 0;
    word = word * 10 + (word >> 8);
    *out = (((word & 0x000000FF000000FFu) * (100 + ((uint64_t)1000000 << 32))) +
            (((word >> 16) & 0x000000FF000000FFu) * (1 + ((uint64_t)10000 << 32)))) >> 32;
    return 1;
}

#if LITTLE_ENDIAN_HERE
#define FAST(length) ((length) > 0 && (length) <= 8 && cell + (length) - block->data >= 8)
#else
#define FAST(length) 0
#endif

/* A whole number: an optional sign and 1 to 18 digits. */
static inline int read_integer(const block_t *block, const uint8_t *cell, int32_t length, int64_t *out)
{
    uint64_t fast;
    if (FAST(length) && eight_digits(cell + length, length, &fast)) {
        *out = (int64_t)fast;
        return 1;
    }
    int32_t at = length && (cell[0] == '-' || cell[0] == '+');
    if (length == at || length - at > 18) return 0;
    int64_t value = 0;
    for (; at < length; at++) {
        uint8_t digit = (uint8_t)(cell[at] - '0');
        if (digit > 9) return 0;
        value = value * 10 + digit;
    }
    *out = cell[0] == '-' ? -value : value;
    return 1;
}

/* A decimal as a number of its last place: an optional sign, up to 18 digits in all, and at most one mark, with a digit
 * behind it and not more of them than the scale.
 */
static inline int read_decimal(const block_t *block, const column_t *column, const uint8_t *cell, int32_t length,
                               int64_t *out)
{
    int32_t scale = column->scale, whole = length - scale - 1;
    int64_t limit = powers[column->digits < 18 ? column->digits : 18], value = 0;
    uint64_t before, behind;
    if (scale > 0 && scale < 8 && FAST(whole) && cell[whole] == column->mark &&
        eight_digits(cell + length, scale, &behind) && eight_digits(cell + whole, whole, &before)) {
        value = (int64_t)before * powers[scale] + (int64_t)behind;
        *out = value;
        return value < limit;
    }
    int32_t at = length && (cell[0] == '-' || cell[0] == '+'), seen = 0, places = -1;
    for (; at < length; at++) {
        uint8_t digit = (uint8_t)(cell[at] - '0');
        if (digit <= 9) {
            if (++seen > 18) return 0; /* before it can overflow */
            value = value * 10 + digit;
            places += places >= 0;
        } else if (cell[at] == column->mark && places < 0) {
            places = 0;
        } else {
            return 0;
        }
    }
    if (!seen || !places || places > scale) return 0;
    if (places < 0) places = 0;
    if (seen - places + scale > 18) return 0;
    value *= powers[scale - places];
    *out = cell[0] == '-' ? -value : value;
    return value < limit;
}

/* Days from 1970-01-01; *good is 0 for a day that the calendar does not have. */
static inline int64_t days_of(uint32_t year, uint32_t month, uint32_t day, int *good)
{
    static const uint16_t before[13] = {0, 0, 31, 59, 90, 120, 151, 181, 212, 243, 273, 304, 334};
    static const uint8_t lengths[13] = {0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    *good = 0;
    if (year < 1 || month < 1 || month > 12 || day < 1) return 0;
    int leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    if ((int)day > lengths[month] + (leap && month == 2)) return 0;
    *good = 1;
    uint32_t past = year - 1;
    return (int64_t)(past * 365 + past / 4 - past / 100 + past / 400 + before[month] + (uint32_t)(leap && month > 2) + day - 1) -
           719162;
}

static inline int read_plain_form(const block_t *block, const uint8_t *cell, const form_t *form, int clock, int64_t *out)
{
    uint64_t word[3] = {0, 0, 0}, written[3], literal[3], digit[3], bad = 0;
    if (cell + 24 <= block->data + block->size) memcpy(word, cell, 24);
    else memcpy(word, cell, (size_t)form->width);
    memcpy(written, form->written, 24);
    memcpy(literal, form->literal, 24);
    memcpy(digit, form->digit, 24);
    for (int k = 0; k < 3; k++) {
        uint64_t rest = word[k] ^ written[k], digits = rest & digit[k];
        bad |= (rest & literal[k]) | (((digits + (digit[k] & 0x0606060606060606u)) | digits) & 0xF0F0F0F0F0F0F0F0u);
        word[k] = digits;
    }
    if (bad) return 0;
    const uint8_t *digits = (const uint8_t *)word;
    const int32_t *at = form->places;
#define TWO(place) ((uint32_t)(digits[place] * 10 + digits[(place) + 1]))
    uint32_t year = at[0] < 0 ? 1970 : TWO(at[0]) * 100 + TWO(at[0] + 2);
    uint32_t month = at[1] < 0 ? 1 : TWO(at[1]), day = at[2] < 0 ? 1 : TWO(at[2]);
    int good;
    int64_t days = days_of(year, month, day, &good);
    if (!good) return 0;
    *out = days;
    if (!clock) return 1;
    uint32_t hour = at[3] < 0 ? 0 : TWO(at[3]), minute = at[4] < 0 ? 0 : TWO(at[4]), second = at[5] < 0 ? 0 : TWO(at[5]);
#undef TWO
    *out = days * 86400000000LL + (int64_t)(hour * 3600 + minute * 60 + second) * 1000000LL;
    return hour <= 23 && minute <= 59 && second <= 59;
}

/* Which of the words a cell is, from 1, whatever the case of its ASCII letters; the words are in lower case. 0 for none. */
static inline uint32_t name_of(const uint8_t *cell, int32_t length, words_t words)
{
    for (int64_t i = 0; i < words.count; i++) {
        const uint8_t *word = words.text + words.edges[i];
        if (words.edges[i + 1] - words.edges[i] != length) continue;
        int32_t k = 0;
        while (k < length && (cell[k] >= 'A' && cell[k] <= 'Z' ? cell[k] | 32 : cell[k]) == word[k]) k++;
        if (k == length) return (uint32_t)i + 1;
    }
    return 0;
}

/* A number of a field's digits; of a fraction, as microseconds. Returns 0 where they are none. */
static inline int read_field(const uint8_t *cell, const field_t *field, uint32_t *out)
{
    uint32_t value = 0;
    for (int32_t k = 0; k < field->width; k++) {
        uint8_t digit = (uint8_t)(cell[k] - '0');
        if (digit > 9) return 0;
        if (k >= 6) { /* what is finer than a microsecond must be zero */
            if (digit) return 0;
            continue;
        }
        value = value * 10 + digit;
    }
    if (field->brief && field->width > 1 && cell[0] == '0') return 0;
    if (field->sign == 'f')
        for (int32_t k = field->width; k < 6; k++) value *= 10;
    *out = value;
    return 1;
}

/* Any other form: its fields one by one. */
static int read_any_form(const uint8_t *cell, const form_t *form, int clock, int64_t *out)
{
    uint32_t year = 1970, month = 1, day = 1, hour = 0, minute = 0, second = 0, fraction = 0, value = 0;
    int half = 0, twelve = 0, good;
    for (int32_t k = 0; k < form->width; k++)
        if (form->fixed[k] && cell[k] != form->text[k]) return 0;
    for (int32_t i = 0; i < form->count; i++) {
        const field_t *field = form->fields + i;
        const uint8_t *at = cell + field->at;
        if (field->sign == 'b' || field->sign == 'B') {
            month = name_of(at, field->width, field->sign == 'b' ? form->months_short : form->months);
            if (!month) return 0;
            continue;
        }
        if (field->sign == 'p') {
            uint8_t first = at[0] | 32;
            if ((first != 'a' && first != 'p') || (at[1] | 32) != 'm') return 0;
            half = first == 'p';
            continue;
        }
        if (!read_field(at, field, &value)) return 0;
        switch (field->sign) {
        case 'Y': year = value; break;
        case 'y': year = (uint32_t)(form->century + (int32_t)(value + 10000 - (uint32_t)form->century) % 100); break;
        case 'm': month = value; break;
        case 'd': day = value; break;
        case 'H': hour = value; break;
        case 'I':
            if (value < 1 || value > 12) return 0;
            hour = value % 12;
            twelve = 1;
            break;
        case 'M': minute = value; break;
        case 'S': second = value; break;
        default: fraction = value;
        }
    }
    if (twelve && half) hour += 12;
    int64_t days = days_of(year, month, day, &good);
    if (!good || year > 9999) return 0;
    *out = days;
    if (!clock) return 1;
    *out = days * 86400000000LL + (int64_t)(hour * 3600 + minute * 60 + second) * 1000000LL + fraction;
    return hour <= 23 && minute <= 59 && second <= 59;
}

/* A day since 1970, or microseconds since then, in the first of the forms that a cell has. */
static inline int read_moment(const block_t *block, const column_t *column, const uint8_t *cell, int32_t length,
                              int64_t *out)
{
    for (int32_t f = 0; f < column->form_count; f++)
        if (column->forms[f].width == length &&
            (column->forms[f].plain ? read_plain_form(block, cell, &column->forms[f], column->clock, out)
                                    : read_any_form(cell, &column->forms[f], column->clock, out)))
            return 1;
    return 0;
}

static inline int two_digits(const uint8_t *cell, int32_t *out)
{
    uint8_t tens = (uint8_t)(cell[0] - '0'), ones_ = (uint8_t)(cell[1] - '0');
    *out = tens * 10 + ones_;
    return tens <= 9 && ones_ <= 9;
}

/* Microseconds in UTC since 1970 of a moment that names its zone behind it: Z, +hh:mm or +hhmm, perhaps after a blank;
 * `local` is set, and the time as it is, where it names none.
 */
static inline int read_zoned(const block_t *block, const column_t *column, const uint8_t *cell, int32_t length,
                             int64_t *out, int *local)
{
    *local = read_moment(block, column, cell, length, out);
    if (*local) return 1;
    int32_t hours = 0, minutes = 0, rest = length;
    int west = 0;
    if (length && cell[length - 1] == 'Z') {
        rest = length - 1;
    } else {
        int colon = length >= 6 && cell[length - 3] == ':';
        if (length < 5) return 0;
        rest = length - (colon ? 6 : 5);
        if (cell[rest] != '+' && cell[rest] != '-') return 0;
        west = cell[rest] == '-';
        if (!two_digits(cell + rest + 1, &hours) || !two_digits(cell + length - 2, &minutes)) return 0;
        if (hours > 15 || minutes > 59) return 0;
    }
    if (rest && cell[rest - 1] == ' ') rest--;
    if (!read_moment(block, column, cell, rest, out)) return 0;
    int64_t east = (int64_t)(hours * 60 + minutes) * 60000000LL;
    *out += west ? east : -east;
    return *out >= -62135596800000000LL && *out < 253402300800000000LL;
}


/* The values of some rows of a column. A null word is null in quotes, too; doubled quotes make a cell odd. */
#define READ_ALL(read, store)                                                                                          \
    for (int64_t i = row; i < row + count; i++, cells += width) {                                                      \
        const uint8_t *cell = block->data + cells->start;                                                              \
        int32_t length = cells->end - cells->start;                                                                    \
        int64_t value = 0;                                                                                             \
        uint8_t is = ODD;                                                                                              \
        if (!(cells->flags & DOUBLED)) {                                                                               \
            if (word_of(cell, length, block->nulls) >= 0) {                                                            \
                is = BLANK;                                                                                            \
                if (length && !worded++) first_worded = i;                                                             \
            } else if (read) is = VALUE;                                                                                 \
        }                                                                                                              \
        if (is != VALUE) {                                                                                             \
            value = 0;                                                                                                 \
            valid[i >> 3] &= (uint8_t) ~(1u << (i & 7));                                                               \
            missing++;                                                                                                 \
            odd += is == ODD;                                                                                          \
        }                                                                                                              \
        state[i] = is;                                                                                                 \
        store;                                                                                                         \
    }

static void read_values(const block_t *given, column_t *target, const cell_t *restrict cells, int64_t width, int64_t row,
                        int64_t count)
{
    const block_t copy = *given, *block = &copy; /* copies, which no store below can change */
    const column_t column_copy = *target, *column = &column_copy;
    uint8_t *restrict state = column->state, *restrict valid = column->valid;
    int64_t *restrict out = column->out;
    int64_t missing = 0, odd = 0, worded = column->worded, first_worded = column->first_worded;
    if (column->sort == INTEGER) {
        READ_ALL(read_integer(block, cell, length, &value), out[i] = value)
    } else if (column->sort == DECIMAL) {
        READ_ALL(read_decimal(block, column, cell, length, &value), out[2 * i] = value; out[2 * i + 1] = value >> 63)
    } else if (column->sort == MOMENT && column->clock) {
        READ_ALL(read_moment(block, column, cell, length, &value), out[i] = value)
    } else if (column->sort == MOMENT) {
        int32_t *restrict days = (int32_t *)(void *)out;
        READ_ALL(read_moment(block, column, cell, length, &value), days[i] = (int32_t)value)
    } else if (column->sort == ZONED) {
        int local = 0;
        READ_ALL(read_zoned(block, column, cell, length, &value, &local), out[i] = value;
                 if (is == VALUE && local) state[i] = LOCAL)
    } else if (column->sort == WORD) {
        uint8_t *restrict bits = (uint8_t *)(void *)out;
        const uint8_t *end = block->data + block->size;
        keys_t keys;
#define STORE_BIT bits[i >> 3] |= (uint8_t)((is == VALUE && value < column->digits) << (i & 7))
        if (few_and_short(column->words, &keys)) {
            READ_ALL((value = key_of(cell, length, end, &keys)) >= 0, STORE_BIT)
        } else {
            READ_ALL((value = word_of(cell, length, column->words)) >= 0, STORE_BIT)
        }
#undef STORE_BIT
    }
    target->missing += missing;
    target->odd += odd;
    target->worded = worded;
    target->first_worded = first_worded;
}

/* The texts of some rows of a column. An unquoted null word is null. */
static void read_texts(const block_t *given, column_t *column, const cell_t *restrict cells, int64_t width, int64_t row,
                       int64_t count)
{
    const block_t block = *given; /* copies, which no store below can change */
    uint8_t *restrict text = column->text, *restrict valid = column->valid;
    int32_t *restrict edges = column->edges;
    int64_t used = column->used, missing = 0;
    for (int64_t i = row; i < row + count; i++, cells += width) {
        const uint8_t *cell = block.data + cells->start;
        int32_t length = cells->end - cells->start;
        if (!(cells->flags & QUOTED) && word_of(cell, length, block.nulls) >= 0) {
            valid[i >> 3] &= (uint8_t) ~(1u << (i & 7));
            missing++;
            if (length && !column->worded++) column->first_worded = i;
        } else if (cells->flags & DOUBLED) {
            for (int32_t k = 0; k < length; k++) {
                text[used++] = cell[k];
                if (cell[k] == block.quote) k++;
            }
        } else {
            if (length <= 32 && cells->start + 32 <= block.size) {
                memcpy(text + used, cell, 32); /* what is too much is written over by the next */
            } else {
                memcpy(text + used, cell, (size_t)length);
            }
            used += length;
        }
        edges[i + 1] = (int32_t)used;
    }
    column->missing += missing;
    column->used = used;
}

static void read_group(const block_t *block, column_t *columns, const cell_t *cells, int64_t width, int64_t row,
                       int64_t count)
{
    for (int64_t at = 0; at < width; at++) {
        if (columns[at].sort == TEXT) read_texts(block, columns + at, cells + at, width, row, count);
        else if (columns[at].sort != SKIP) read_values(block, columns + at, cells + at, width, row, count);
    }
}

/* Split `size` bytes of whole records, whose quotes are known to be in place, into rows of `width` cells, and read them.
 *
 * A few hundred rows are split, then read column by column, so that they stay in the cache. Texts have 32 bytes to
 * spare. starts, stops: where each record begins and ends; empty lines are none. records: which of them each row is.
 * odd, odd_widths: the records of another width. counts: rows, odd records, records, empty lines. There is room for
 * `room` records. Returns 0, or -1 where there is no room.
 */
EXPORTED int64_t read_block(const uint8_t *data, int64_t size, uint8_t delimiter, int32_t quote, const uint8_t *null_text,
                   const int32_t *null_edges, int64_t null_count, int64_t width, column_t *columns, int64_t room,
                   int32_t *starts, int32_t *stops, int64_t *records, int64_t *odd, int64_t *odd_widths,
                   int64_t *counts)
{
    block_t block = {data, size, (uint8_t)(quote < 0 ? 0 : quote), {null_text, null_edges, null_count}};
    int64_t group = width > 32 ? 16384 / width : 512;
    if (group < 8) group = 8;
    cell_t *cells = malloc((size_t)(group * width) * sizeof(cell_t));
    if (!cells) return -1;
    cell_t *slot = cells;
    uint8_t padded[64];
    uint64_t inside = 0;
    int64_t rows = 0, done = 0, odds = 0, record = 0, empty = 0, cell = 0, start = 0, record_start = 0;
    int full = 0, missing = size && data[size - 1] != '\n'; /* the last line has no end: it is given one */
    for (int64_t at = 0; at < size + missing; at += 64) {
        uint64_t marks = 0, feeds = 0;
        if (at < size) {
            const uint8_t *word = sixty_four(data, size, at, padded);
            feeds = bits_of(word, '\n');
            marks = feeds | bits_of(word, delimiter);
            if (size - at < 64) marks &= ((uint64_t)1 << (size - at)) - 1;
            if (quote >= 0) {
                uint64_t within = odd_up_to(bits_of(word, (uint8_t)quote)) ^ inside;
                marks &= ~within;
                inside = (uint64_t)0 - (within >> 63);
            }
        }
        if (missing && size - at < 64) {
            marks |= (uint64_t)1 << (size - at);
            feeds |= (uint64_t)1 << (size - at);
        }
        while (marks) {
            uint64_t mark = marks & (~marks + 1);
            int64_t position = at + __builtin_ctzll(marks), end = position;
            marks ^= mark;
            int closes = (feeds & mark) != 0;
            if (closes && end > start && data[end - 1] == '\r') end--;
            if (cell < width) {
                if (quote >= 0 && end > start + 1 && data[start] == (uint8_t)quote) {
                    slot->start = (int32_t)start + 1;
                    slot->end = (int32_t)end - 1;
                    slot->flags = QUOTED;
                    if (memchr(data + start + 1, quote, (size_t)(end - start - 2))) slot->flags |= DOUBLED;
                } else {
                    slot->start = (int32_t)start;
                    slot->end = (int32_t)end;
                    slot->flags = 0;
                }
                slot++;
            }
            start = position + 1;
            if (!closes) {
                cell++;
                continue;
            }
            if (!cell && end == record_start) {
                empty++;
            } else if (cell + 1 != width) {
                if ((full = record >= room)) break;
                starts[record] = (int32_t)record_start;
                stops[record] = (int32_t)end;
                odd[odds] = record++;
                odd_widths[odds++] = cell + 1;
            } else {
                if ((full = record >= room)) break;
                starts[record] = (int32_t)record_start;
                stops[record] = (int32_t)end;
                records[rows++] = record++;
                if (rows - done == group) {
                    read_group(&block, columns, cells, width, done, group);
                    done = rows;
                }
            }
            cell = 0;
            record_start = start;
            slot = cells + (rows - done) * width;
        }
        if (full) {
            free(cells);
            return -1;
        }
    }
    read_group(&block, columns, cells, width, done, rows - done);
    free(cells);
    counts[0] = rows;
    counts[1] = odds;
    counts[2] = record;
    counts[3] = empty;
    return 0;
}

/* What a record is, as far as its quotes go: all of them at the edges of fields or doubled, or none; only within
 * unquoted fields; both; or one that is opened and not closed within the largest record, or closed and followed by text.
 */
enum { IN_PLACE = 0, BARE = 1, MIXED = 2, UNCLOSED = 3, FOLLOWED = 4 };

/* The records of a chunk one by one, whatever its quotes are like. A stray quote spoils its line, and no more.
 *
 * starts, stops, lines, sorts: of each record, with the line feeds before it. counts: records, empty lines, comments,
 * and where the first record begins that is not whole. Returns 0, or -1 where there is no room for a record.
 */
EXPORTED int64_t scan(const uint8_t *data, int64_t size, int32_t final, uint8_t delimiter, uint8_t quote, const uint8_t *comment,
             int64_t comment_size, int64_t record_bytes, int64_t record_lines, int64_t room, int64_t *starts,
             int64_t *stops, int64_t *lines, uint8_t *sorts, int64_t *counts)
{
    int64_t records = 0, empty = 0, comments = 0, at = 0, line = 0;
    while (at < size) {
        const uint8_t *feed = memchr(data + at, '\n', (size_t)(size - at));
        if (!feed && !final) break;
        int64_t line_end = feed ? feed - data : size, following = feed ? line_end + 1 : size;
        int64_t inner = 0, counted = at;
        int sort = IN_PLACE, quoted = 0, bare = 0;
        if (comment_size && size - at >= comment_size && memcmp(data + at, comment, (size_t)comment_size) == 0) {
            comments++;
            line += feed != 0;
            at = following;
            continue;
        }
        if (memchr(data + at, quote, (size_t)(line_end - at))) {
            int64_t limit = at + record_bytes < size ? at + record_bytes : size, place = at, end = line_end;
            for (;;) {
                if (place < size && data[place] == quote) {
                    const uint8_t *close = NULL;
                    int64_t search = place + 1;
                    for (;;) {
                        close = search < limit ? memchr(data + search, quote, (size_t)(limit - search)) : NULL;
                        if (!close) {
                            if (!final && size < at + record_bytes) goto not_whole;
                            break;
                        }
                        search = close - data + 1;
                        if (search < size && data[search] == quote) {
                            search++;
                            continue;
                        }
                        if (search >= size && !final) goto not_whole;
                        break;
                    }
                    if (!close) {
                        sort = UNCLOSED;
                        break;
                    }
                    for (; counted < search; counted++) inner += data[counted] == '\n';
                    if (inner > record_lines) {
                        sort = UNCLOSED;
                        break;
                    }
                    quoted = 1;
                    end = search;
                    int ends = end >= size || data[end] == delimiter || data[end] == '\n' ||
                               (data[end] == '\r' && (end + 1 >= size || data[end + 1] == '\n'));
                    if (!ends) {
                        sort = FOLLOWED;
                        break;
                    }
                } else {
                    end = place;
                    while (end < size && data[end] != delimiter && data[end] != '\n') bare |= data[end++] == quote;
                }
                if (end < size && data[end] == delimiter) {
                    place = end + 1;
                    continue;
                }
                const uint8_t *after = end < size ? memchr(data + end, '\n', (size_t)(size - end)) : NULL;
                if (!after && !final) goto not_whole;
                following = after ? after - data + 1 : size;
                break;
            }
            if (sort != IN_PLACE) following = feed ? line_end + 1 : size;
            else sort = bare ? (quoted ? MIXED : BARE) : IN_PLACE;
        }
        int64_t stop = following - (data[following - 1] == '\n');
        if (stop > at && data[stop - 1] == '\r') stop--;
        if (stop == at) {
            empty++;
        } else {
            if (records >= room) return -1;
            starts[records] = at;
            stops[records] = stop;
            lines[records] = line;
            sorts[records++] = (uint8_t)sort;
        }
        for (const uint8_t *p = data + at; p < data + following && (p = memchr(p, '\n', (size_t)(data + following - p))); p++)
            line++;
        at = following;
    }
not_whole:
    counts[0] = records;
    counts[1] = empty;
    counts[2] = comments;
    counts[3] = at;
    return 0;
}

/* The version of all this, and the sizes of what is shared: words, arrays, forms, columns, wires, members. */
EXPORTED int32_t kernel_version(int64_t *sizes)
{
    sizes[0] = sizeof(words_t);
    sizes[1] = sizeof(array_t);
    sizes[2] = sizeof(form_t);
    sizes[3] = sizeof(column_t);
    sizes[4] = sizeof(wire_t);
    sizes[5] = sizeof(member_t);
    return KERNEL_VERSION;
}
