/* The hot path in C: a chunk surveyed for its records, and a block of records split into cells and read as values.
 *
 * Nothing here decides what is right: read_block() takes whole records whose quotes survey() found in place, and the
 * readers accept only the plainest writing of a kind. What is not plain is marked ODD and read elsewhere, where each
 * kind is defined. All positions are bytes in the block; all arrays are the caller's and long enough.
 */

#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#define QUOTED 1u   /* the cell stood in quotes, which are not part of it */
#define DOUBLED 2u  /* it holds doubled quotes, each of which is one */

enum { VALUE = 0, BLANK = 1, ODD = 2 };

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
int64_t count_byte(const uint8_t *data, int64_t size, uint8_t byte)
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
void survey(const uint8_t *data, int64_t size, uint8_t delimiter, uint8_t quote, int32_t final, int64_t *found)
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

/* Words, one after the other: word i is text[edges[i] .. edges[i + 1]]. */
typedef struct {
    const uint8_t *text;
    const int32_t *edges;
    int64_t count;
} words_t;

/* A written form of moments: its width, up to 24 bytes, and where the fields stand: year (4 digits), month, day, hour,
 * minute, second; -1 for what is not written. `written` holds the literal bytes, and '0' for digits; `literal` and
 * `digit` are 255 where such a byte stands.
 */
typedef struct {
    int32_t width;
    int32_t fields[6];
    uint8_t written[24], literal[24], digit[24];
} form_t;

/* What is made of a column: how it is read, and where it goes.
 *
 * `out` has a number of 64 bits a row, of a decimal two, of a day one of 32 bits, and of words a bit, set for the first
 * `digits` of them; `state` says of each row whether it is a value, null, or odd; `odd` counts the latter. A text goes
 * to `text`, as long as the block, its ends to `edges`; the bit of what is null is taken from `valid`; `used` is how long it is.
 */
enum { SKIP = 0, TEXT = 1, INTEGER = 2, DECIMAL = 3, MOMENT = 4, WORD = 5 };

typedef struct {
    int32_t sort, digits, scale, mark, clock, form_count;
    const form_t *forms;
    words_t words;
    int64_t *out;
    uint8_t *state;
    uint8_t *text;
    int32_t *edges;
    uint8_t *valid;
    int64_t used, missing, odd;
} column_t;

typedef struct {
    const uint8_t *data;
    int64_t size;
    uint8_t quote;
    words_t nulls;
} block_t;

static inline int64_t word_of(const uint8_t *cell, int32_t length, words_t words)
{
    for (int64_t i = 0; i < words.count; i++) {
        const uint8_t *word = words.text + words.edges[i];
        if (words.edges[i + 1] - words.edges[i] != length) continue;
        int32_t k = 0;
        while (k < length && cell[k] == word[k]) k++;
        if (k == length) return i;
    }
    return -1;
}

/* Up to 32 words of up to 7 bytes, as numbers with the length in the last byte: a cell is held to eight of them at once,
 * without a branch. Where no word is, there stands a number that no cell is.
 */
enum { FEW = 32 };

typedef struct {
    uint64_t word[FEW];
    int64_t count;
} keys_t;

/* Whether all words are such. */
static int few_and_short(words_t words, keys_t *keys)
{
    if (words.count > FEW) return 0;
    memset(keys->word, 255, sizeof keys->word);
    keys->count = words.count;
    for (int64_t i = 0; i < words.count; i++) {
        int32_t length = words.edges[i + 1] - words.edges[i];
        if (length > 7) return 0;
        uint8_t bytes[8] = {0, 0, 0, 0, 0, 0, 0, (uint8_t)length};
        memcpy(bytes, words.text + words.edges[i], (size_t)length);
        memcpy(&keys->word[i], bytes, 8);
    }
    return 1;
}

/* The first of the words that a cell is, or -1; `end` is that of the readable bytes. */
static inline int64_t key_of(const uint8_t *cell, int32_t length, const uint8_t *end, const keys_t *keys)
{
    uint64_t word = 0;
    if (length > 7) return -1;
#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    if (end - cell >= 8) {
        memcpy(&word, cell, 8);
        word &= ((uint64_t)1 << (8 * length)) - 1;
    } else {
        memcpy(&word, cell, (size_t)length);
    }
    word |= (uint64_t)length << 56;
#else
    uint8_t bytes[8] = {0, 0, 0, 0, 0, 0, 0, (uint8_t)length};
    (void)end;
    memcpy(bytes, cell, (size_t)length);
    memcpy(&word, bytes, 8);
#endif
    for (int64_t i = 0; i < keys->count; i += 8) {
        const uint64_t *k = keys->word + i;
        uint32_t same = (uint32_t)(k[0] == word) | (uint32_t)(k[1] == word) << 1 | (uint32_t)(k[2] == word) << 2 |
                        (uint32_t)(k[3] == word) << 3 | (uint32_t)(k[4] == word) << 4 | (uint32_t)(k[5] == word) << 5 |
                        (uint32_t)(k[6] == word) << 6 | (uint32_t)(k[7] == word) << 7;
        if (same) return i + __builtin_ctz(same);
    }
    return -1;
}

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

#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
#define FAST(length) ((length) > 0 && (length) <= 8 && cell + (length) - block->data >= 8)
#else
#define FAST(length) 0
#endif

static const int64_t powers[19] = {
    1, 10, 100, 1000, 10000, 100000, 1000000, 10000000, 100000000, 1000000000, 10000000000, 100000000000,
    1000000000000, 10000000000000, 100000000000000, 1000000000000000, 10000000000000000, 100000000000000000,
    1000000000000000000};

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
    for (; at < length && seen <= 18; at++) {
        uint8_t digit = (uint8_t)(cell[at] - '0');
        if (digit <= 9) {
            value = value * 10 + digit;
            seen++;
            places += places >= 0;
        } else if (cell[at] == column->mark && places < 0) {
            places = 0;
        } else {
            return 0;
        }
    }
    if (at < length || !seen || seen > 18 || !places || places > scale) return 0;
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

static inline int read_form(const block_t *block, const uint8_t *cell, const form_t *form, int clock, int64_t *out)
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
    const int32_t *at = form->fields;
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

/* A day since 1970, or microseconds since then, in the first of the forms that a cell has. */
static inline int read_moment(const block_t *block, const column_t *column, const uint8_t *cell, int32_t length,
                              int64_t *out)
{
    for (int32_t f = 0; f < column->form_count; f++)
        if (column->forms[f].width == length && read_form(block, cell, &column->forms[f], column->clock, out))
            return 1;
    return 0;
}

/* The values of some rows of a column. A null word is null in quotes, too; doubled quotes make a cell odd. */
#define READ_ALL(read, store)                                                                                          \
    for (int64_t i = row; i < row + count; i++, cells += width) {                                                      \
        const uint8_t *cell = block->data + cells->start;                                                              \
        int32_t length = cells->end - cells->start;                                                                    \
        int64_t value = 0;                                                                                             \
        uint8_t is = ODD;                                                                                              \
        if (!(cells->flags & DOUBLED)) {                                                                               \
            if (word_of(cell, length, block->nulls) >= 0) is = BLANK;                                                  \
            else if (read) is = VALUE;                                                                                 \
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
    int64_t missing = 0, odd = 0;
    if (column->sort == INTEGER) {
        READ_ALL(read_integer(block, cell, length, &value), out[i] = value)
    } else if (column->sort == DECIMAL) {
        READ_ALL(read_decimal(block, column, cell, length, &value), out[2 * i] = value; out[2 * i + 1] = value >> 63)
    } else if (column->sort == MOMENT && column->clock) {
        READ_ALL(read_moment(block, column, cell, length, &value), out[i] = value)
    } else if (column->sort == MOMENT) {
        int32_t *restrict days = (int32_t *)(void *)out;
        READ_ALL(read_moment(block, column, cell, length, &value), days[i] = (int32_t)value)
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
int64_t read_block(const uint8_t *data, int64_t size, uint8_t delimiter, int32_t quote, const uint8_t *null_text,
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
int64_t scan(const uint8_t *data, int64_t size, int32_t final, uint8_t delimiter, uint8_t quote, const uint8_t *comment,
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

/* An Arrow array: its values, and a bit for each that is no null, from the bit `first` on; no bits where none is null.
 * Of texts, `values` are the bytes, and text i is values[edges[i] .. edges[i + 1]].
 */
typedef struct {
    const uint8_t *values, *valid;
    const int32_t *edges;
    int64_t first, count;
} array_t;

static inline int is_null(const array_t *array, int64_t at)
{
    int64_t bit = array->first + at;
    return array->valid && !(array->valid[bit >> 3] >> (bit & 7) & 1);
}

/* Each of these marks with 1 the values that break a check, and returns how many there are; `broken` holds zeros. */

/* Texts that are null, empty, or begin with a byte of which `unsure` says that white space may: those are marked 2. */
int64_t look_blank(array_t array, const uint8_t *unsure, uint8_t *broken)
{
    int64_t found = 0;
    for (int64_t i = 0; i < array.count; i++) {
        int32_t start = array.edges[i];
        uint8_t is = 0;
        if (is_null(&array, i) || start == array.edges[i + 1]) is = 1;
        else if (unsure[array.values[start]]) is = 2;
        broken[i] = is;
        found += is != 0;
    }
    return found;
}

/* The most bytes that a text has, or -1 where a NUL stands in one. */
int64_t look_longest(array_t array)
{
    int32_t longest = 0, first = array.edges[0], last = array.edges[array.count];
    for (int64_t i = 0; i < array.count; i++) {
        int32_t length = array.edges[i + 1] - array.edges[i];
        longest = length > longest ? length : longest;
    }
    return last > first && memchr(array.values + first, 0, (size_t)(last - first)) ? -1 : longest;
}

/* Texts that are none of some words. */
int64_t look_among(array_t array, words_t words, uint8_t *broken)
{
    keys_t keys;
    int few = few_and_short(words, &keys);
    const uint8_t *end = array.values + array.edges[array.count];
    int64_t found = 0;
    for (int64_t i = 0; i < array.count; i++) {
        int32_t start = array.edges[i], length = array.edges[i + 1] - start;
        const uint8_t *cell = array.values + start;
        if ((few ? key_of(cell, length, end, &keys) : word_of(cell, length, words)) >= 0) continue;
        if (is_null(&array, i)) continue;
        broken[i] = 1;
        found++;
    }
    return found;
}

/* Texts that have not `places` bytes, or one that may not stand at its place: allowed[256 * place + byte] says so. */
int64_t look_places(array_t array, int32_t places, const uint8_t *allowed, uint8_t *broken)
{
    int64_t found = 0;
    for (int64_t i = 0; i < array.count; i++) {
        int32_t start = array.edges[i];
        int fits = array.edges[i + 1] - start == places;
        for (int32_t at = 0; fits && at < places; at++) fits = allowed[256 * at + array.values[start + at]];
        if (fits || is_null(&array, i)) continue;
        broken[i] = 1;
        found++;
    }
    return found;
}

#define LOOK_OUTSIDE(type)                                                                                             \
    {                                                                                                                  \
        const type *values = (const type *)(const void *)array.values;                                                 \
        for (int64_t i = 0; i < array.count; i++) {                                                                    \
            if ((values[i] >= least && values[i] <= most) || is_null(&array, i)) continue;                             \
            broken[i] = 1;                                                                                             \
            found++;                                                                                                   \
        }                                                                                                              \
    }

/* Whole numbers of 4, 8 or 16 bytes that are less than the least or more than the most. */
int64_t look_outside(array_t array, int32_t width, int64_t least, int64_t most, uint8_t *broken)
{
    int64_t found = 0;
    if (width == 4) LOOK_OUTSIDE(int32_t)
    else if (width == 8) LOOK_OUTSIDE(int64_t)
    else {
        const int64_t *halves = (const int64_t *)(const void *)array.values;
        for (int64_t i = 0; i < array.count; i++) {
            int64_t low = halves[2 * i], high = halves[2 * i + 1];
            if ((high == low >> 63 && low >= least && low <= most) || is_null(&array, i)) continue;
            broken[i] = 1;
            found++;
        }
    }
    return found;
}

/* A column of an Arrow batch as it is written for a database. `sort` says what it is; `first` is the bit of the first value
 * in `valid`, and of the first boolean; `edges` are those of texts.
 */
enum { AS_BOOL, AS_INT16, AS_INT32, AS_INT64, AS_FLOAT32, AS_FLOAT64, AS_DATE, AS_TIMESTAMP, AS_TEXT, AS_UUID, AS_NUMERIC, AS_TIME };

typedef struct {
    const uint8_t *values, *valid;
    const int32_t *edges;
    int64_t first;
    int32_t sort, scale;
} wire_t;

static inline uint8_t *put16(uint8_t *out, uint16_t value)
{
    out[0] = (uint8_t)(value >> 8);
    out[1] = (uint8_t)value;
    return out + 2;
}

static inline uint8_t *put32(uint8_t *out, uint32_t value) { return put16(put16(out, (uint16_t)(value >> 16)), (uint16_t)value); }

static inline uint8_t *put64(uint8_t *out, uint64_t value) { return put32(put32(out, (uint32_t)(value >> 32)), (uint32_t)value); }

/* A decimal as PostgreSQL's numeric: groups of four digits on both sides of the mark, without zeros at either end. */
static uint8_t *put_numeric(uint8_t *out, const uint8_t *from, int32_t scale)
{
    uint64_t low;
    int64_t high;
    memcpy(&low, from, 8);
    memcpy(&high, from + 8, 8);
    int negative = high < 0;
    unsigned __int128 value = ((unsigned __int128)(uint64_t)high << 64) | low;
    if (negative) value = -value;
    uint16_t groups[24];
    int count = 0, behind = (scale + 3) / 4;
    if (value >> 64 == 0 && scale <= 15) {
        uint64_t rest = (uint64_t)value, power = (uint64_t)powers[scale];
        uint64_t whole = rest / power, part = rest % power * (uint64_t)powers[(4 - scale % 4) % 4];
        while (count < behind) {
            groups[count++] = (uint16_t)(part % 10000);
            part /= 10000;
        }
        for (; whole; whole /= 10000) groups[count++] = (uint16_t)(whole % 10000);
    } else { /* the last group may be of fewer than four digits of the scale */
        int odd = scale % 4;
        if (odd) {
            uint64_t power = (uint64_t)powers[odd];
            groups[count++] = (uint16_t)((uint64_t)(value % power) * (uint64_t)powers[4 - odd]);
            value /= power;
        }
        while (value || count < behind) {
            groups[count++] = (uint16_t)(value % 10000);
            value /= 10000;
        }
    }
    while (count && !groups[count - 1]) count--;
    int least = 0;
    while (least < count && !groups[least]) least++;
    int weight = count ? count - 1 - behind : 0;
    out = put32(out, (uint32_t)(8 + 2 * (count - least)));
    out = put16(out, (uint16_t)(count - least));
    out = put16(out, (uint16_t)(int16_t)weight);
    out = put16(out, negative ? 0x4000 : 0);
    out = put16(out, (uint16_t)scale);
    for (int k = count - 1; k >= least; k--) out = put16(out, groups[k]);
    return out;
}

/* The rows of a batch as PostgreSQL's binary COPY has them; how many bytes. There is room for them. */
int64_t copy_rows(const wire_t *columns, int64_t width, int64_t rows, uint8_t *room)
{
    uint8_t *out = room;
    for (int64_t row = 0; row < rows; row++) {
        out = put16(out, (uint16_t)width);
        for (int64_t at = 0; at < width; at++) {
            const wire_t *column = columns + at;
            int64_t bit = column->first + row;
            if (column->valid && !(column->valid[bit >> 3] >> (bit & 7) & 1)) {
                out = put32(out, 0xFFFFFFFFu);
                continue;
            }
            uint16_t two;
            uint32_t four;
            uint64_t eight;
            switch (column->sort) {
            case AS_BOOL:
                out = put32(out, 1);
                *out++ = column->values[bit >> 3] >> (bit & 7) & 1;
                break;
            case AS_INT16:
                memcpy(&two, column->values + 2 * row, 2);
                out = put16(put32(out, 2), two);
                break;
            case AS_INT32:
            case AS_FLOAT32:
                memcpy(&four, column->values + 4 * row, 4);
                out = put32(put32(out, 4), four);
                break;
            case AS_DATE: /* days since 2000 */
                memcpy(&four, column->values + 4 * row, 4);
                out = put32(put32(out, 4), four - 10957u);
                break;
            case AS_INT64:
            case AS_FLOAT64:
                memcpy(&eight, column->values + 8 * row, 8);
                out = put64(put32(out, 8), eight);
                break;
            case AS_TIMESTAMP: /* microseconds since 2000 */
                memcpy(&eight, column->values + 8 * row, 8);
                out = put64(put32(out, 8), eight - 946684800000000u);
                break;
            case AS_UUID:
                out = put32(out, 16);
                memcpy(out, column->values + 16 * row, 16);
                out += 16;
                break;
            case AS_NUMERIC:
                out = put_numeric(out, column->values + 16 * row, column->scale);
                break;
            default: {
                int32_t start = column->edges[row], length = column->edges[row + 1] - start;
                out = put32(out, (uint32_t)length);
                if (length) memcpy(out, column->values + start, (size_t)length);
                out += length;
            }
            }
        }
    }
    return out - room;
}

/* A whole number, in at least so many digits. */
static uint8_t *put_digits(uint8_t *out, uint64_t value, int least)
{
    uint8_t digits[20];
    int count = 0;
    do digits[count++] = (uint8_t)('0' + value % 10);
    while (value /= 10);
    while (count < least) digits[count++] = '0';
    while (count) *out++ = digits[--count];
    return out;
}

/* A date from its days since 1970, by the calendar of ISO 8601: two bytes for the year, one for the month, one for the day;
 * the years are counted from March on.
 */
static uint8_t *put_date(uint8_t *out, int64_t days)
{
    uint64_t since = (uint64_t)(days + 719468), era = since / 146097, of_era = since % 146097;
    uint64_t of = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    uint64_t of_year = of_era - (365 * of + of / 4 - of / 100), month = (5 * of_year + 2) / 153;
    out[2] = (uint8_t)(month < 10 ? month + 3 : month - 9);
    out[3] = (uint8_t)(of_year - (153 * month + 2) / 5 + 1);
    uint64_t year = of + era * 400 + (out[2] <= 2);
    out[0] = (uint8_t)year;
    out[1] = (uint8_t)(year >> 8);
    return out + 4;
}

/* A time of day from its microseconds: hour, minute, second, and four bytes of microseconds where there are any. */
static uint8_t *put_clock(uint8_t *out, uint64_t microseconds)
{
    uint32_t seconds = (uint32_t)(microseconds / 1000000), part = (uint32_t)(microseconds % 1000000);
    *out++ = (uint8_t)(seconds / 3600);
    *out++ = (uint8_t)(seconds / 60 % 60);
    *out++ = (uint8_t)(seconds % 60);
    if (!part) return out;
    memcpy(out, &part, 4);
    return out + 4;
}

/* A decimal with all digits of its scale. */
static uint8_t *put_decimal(uint8_t *out, const uint8_t *from, int32_t scale)
{
    uint64_t low;
    int64_t high;
    memcpy(&low, from, 8);
    memcpy(&high, from + 8, 8);
    unsigned __int128 value = ((unsigned __int128)(uint64_t)high << 64) | low;
    if (high < 0) {
        value = -value;
        *out++ = '-';
    }
    if (value >> 64 == 0 && scale <= 18) {
        uint64_t power = (uint64_t)powers[scale];
        out = put_digits(out, (uint64_t)value / power, 1);
        if (scale) {
            *out++ = '.';
            out = put_digits(out, (uint64_t)value % power, scale);
        }
        return out;
    }
    uint8_t digits[40];
    int count = 0;
    for (; value || count <= scale; value /= 10) digits[count++] = (uint8_t)('0' + (int)(value % 10));
    while (count) {
        if (count == scale) *out++ = '.';
        *out++ = digits[--count];
    }
    return out;
}

/* Bytes, with their length before them: one byte of it, or a byte that says how many of it follow. */
static uint8_t *put_sized(uint8_t *out, const uint8_t *from, uint32_t size)
{
    int width = size < 251 ? 0 : size < 1 << 16 ? 2 : size < 1 << 24 ? 3 : 8;
    *out++ = (uint8_t)(width == 0 ? size : width == 2 ? 252 : width == 3 ? 253 : 254);
    uint64_t number = size;
    memcpy(out, &number, (size_t)width);
    memcpy(out + width, from, size);
    return out + width + size;
}

/* The rows of a batch as MariaDB's bulk execution takes them, each cell after a byte that is 1 for null; `ends` are the
 * bytes after each `step` rows. How many bytes; there is room for them.
 */
int64_t bulk_rows(const wire_t *columns, int64_t width, int64_t rows, int64_t step, uint8_t *room, int64_t *ends)
{
    uint8_t *out = room, *size;
    for (int64_t row = 0; row < rows; row++) {
        if (row && row % step == 0) *ends++ = out - room;
        for (int64_t at = 0; at < width; at++) {
            const wire_t *column = columns + at;
            int64_t bit = column->first + row, number = 0;
            int32_t days;
            int null = column->valid && !(column->valid[bit >> 3] >> (bit & 7) & 1);
            *out++ = (uint8_t)null;
            if (null) continue;
            switch (column->sort) {
            case AS_BOOL:
                *out++ = column->values[bit >> 3] >> (bit & 7) & 1;
                break;
            case AS_INT64:
            case AS_FLOAT64:
                memcpy(out, column->values + 8 * row, 8);
                out += 8;
                break;
            case AS_DATE:
                memcpy(&days, column->values + 4 * row, 4);
                *out++ = 4;
                out = put_date(out, days);
                break;
            case AS_TIME:
                memcpy(&number, column->values + 8 * row, 8);
                size = out;
                memset(out + 1, 0, 5); /* not negative, no days */
                out = put_clock(out + 6, (uint64_t)number);
                *size = (uint8_t)(out - size - 1);
                break;
            case AS_TIMESTAMP: {
                memcpy(&number, column->values + 8 * row, 8);
                int64_t day = number / 86400000000, rest = number % 86400000000;
                if (rest < 0) {
                    day--;
                    rest += 86400000000;
                }
                size = out;
                out = put_clock(put_date(out + 1, day), (uint64_t)rest);
                *size = (uint8_t)(out - size - 1);
                break;
            }
            case AS_NUMERIC:
                size = out;
                out = put_decimal(out + 1, column->values + 16 * row, column->scale);
                *size = (uint8_t)(out - size - 1);
                break;
            default:
                out = put_sized(out, column->values + column->edges[row], (uint32_t)(column->edges[row + 1] - column->edges[row]));
            }
        }
    }
    *ends = out - room;
    return out - room;
}
