/* Lanes: a hash of every cell, seeded with the number of its column, see docs/fingerprint.md.
 *
 * They are the functions with which PostgreSQL hashes values, so that a table there need not leave it to be compared. The
 * mixing is that of Bob Jenkins' lookup3 (2006, in the public domain).
 */

#include "kernel.h"

#define ROTATED(word, by) ((word) << (by) | (word) >> (32 - (by)))

typedef struct {
    uint32_t a, b, c;
} state_t;

static inline void mix(state_t *s)
{
    uint32_t a = s->a, b = s->b, c = s->c;
    a -= c; a ^= ROTATED(c, 4); c += b;
    b -= a; b ^= ROTATED(a, 6); a += c;
    c -= b; c ^= ROTATED(b, 8); b += a;
    a -= c; a ^= ROTATED(c, 16); c += b;
    b -= a; b ^= ROTATED(a, 19); a += c;
    c -= b; c ^= ROTATED(b, 4); b += a;
    s->a = a; s->b = b; s->c = c;
}

static inline uint64_t last_of(state_t *s)
{
    uint32_t a = s->a, b = s->b, c = s->c;
    c ^= b; c -= ROTATED(b, 14);
    a ^= c; a -= ROTATED(c, 11);
    b ^= a; b -= ROTATED(a, 25);
    c ^= b; c -= ROTATED(b, 16);
    a ^= c; a -= ROTATED(c, 4);
    b ^= a; b -= ROTATED(a, 14);
    c ^= b; c -= ROTATED(b, 24);
    return (uint64_t)b << 32 | c;
}

static inline state_t first_of(uint32_t length, uint64_t seed)
{
    uint32_t start = 0x9e3779b9u + length + 3923095u;
    state_t s = {start, start, start};
    if (seed) {
        s.a += (uint32_t)(seed >> 32);
        s.b += (uint32_t)seed;
        mix(&s);
    }
    return s;
}

static inline uint32_t word_at(const uint8_t *at)
{
    return (uint32_t)at[0] | (uint32_t)at[1] << 8 | (uint32_t)at[2] << 16 | (uint32_t)at[3] << 24;
}

/* A seed, and what comes of it for each of the lengths that most cells have. */
enum { LENGTHS = 64 };

typedef struct {
    uint64_t seed;
    state_t of[LENGTHS];
} seed_t;

static void know(seed_t *seed, uint64_t number)
{
    seed->seed = number;
    for (uint32_t i = 0; i < LENGTHS; i++) seed->of[i] = first_of(i, number);
}

/* `end` is that of the readable bytes. */
static inline uint64_t of_bytes(const uint8_t *at, int64_t length, const uint8_t *end, const seed_t *seed)
{
    state_t s = length < LENGTHS ? seed->of[length] : first_of((uint32_t)length, seed->seed);
    for (; length >= 12; length -= 12, at += 12) {
        s.a += word_at(at);
        s.b += word_at(at + 4);
        s.c += word_at(at + 8);
        mix(&s);
    }
    uint8_t rest[12] = {0};
    if (end - at < 12) {
        if (length) memcpy(rest, at, (size_t)length); /* of nothing, there may be no place */
        at = rest;
        length = 12;
    }
    uint32_t all = 0xffffffffu, left = (uint32_t)length;
    s.a += word_at(at) & (left >= 4 ? all : ~(all << 8 * left));
    s.b += left <= 4 ? 0 : word_at(at + 4) & (left >= 8 ? all : ~(all << 8 * (left - 4)));
    s.c += left <= 8 ? 0 : (word_at(at + 8) & (left >= 12 ? all : ~(all << 8 * (left - 8)))) << 8; /* below it, the length */
    return last_of(&s);
}

static inline uint64_t of_known(uint32_t word, const seed_t *seed)
{
    state_t s = seed->of[4];
    s.a += word;
    return last_of(&s);
}

static inline uint64_t of_word(uint32_t word, uint64_t seed)
{
    state_t s = first_of(4, seed);
    s.a += word;
    return last_of(&s);
}

/* Both halves of a number as one word, for which -1 and 0 are not the same. */
static inline uint32_t folded(int64_t value)
{
    uint32_t low = (uint32_t)value, high = (uint32_t)((uint64_t)value >> 32);
    return low ^ (value >= 0 ? high : ~high);
}

static inline uint64_t of_integer(int64_t value, const seed_t *seed)
{
    return of_word((uint32_t)((uint64_t)value >> 32), of_known(folded(value), seed));
}

enum { A_DAY = 10957 }; /* days from 1970-01-01 to 2000-01-01, from which PostgreSQL counts */
static const int64_t MICROS = 86400000000;

static inline uint64_t of_moment(int64_t micros, const seed_t *seed)
{
    int64_t since = (int64_t)((uint64_t)micros - (uint64_t)(A_DAY * MICROS)); /* which goes round for an infinite one */
    int64_t day = since / MICROS - (since % MICROS < 0);
    return of_word(folded(since), of_known((uint32_t)(int32_t)day, seed));
}

/* A number by its digits of base 10000, without zeros at either end, and the power of the first; the sign turns the seed. */
typedef unsigned __int128 wide_t;
enum { GROUPS = 24, PLACES = 39 };

static inline uint64_t of_groups(const uint16_t *group, int count, int before, const seed_t *seed)
{
    int first = 0, weight = before - 1;
    while (first < count && !group[first]) first++, weight--;
    if (first == count) return seed->seed - 1;
    while (!group[count - 1]) count--;
    uint8_t bytes[2 * GROUPS];
    for (int i = first; i < count; i++) {
        bytes[2 * (i - first)] = (uint8_t)group[i];
        bytes[2 * (i - first) + 1] = (uint8_t)(group[i] >> 8);
    }
    return of_bytes(bytes, 2 * (count - first), bytes + sizeof bytes, seed) ^ (uint64_t)(int64_t)weight;
}

/* `seeds` are that of numbers from zero on, and that of those below. */
static inline uint64_t of_decimal(const uint8_t *at, int32_t scale, const wide_t *power, const seed_t *seeds)
{
    const seed_t *seed = seeds;
    uint64_t half[2];
    memcpy(half, at, 16);
    int negative = (int64_t)half[1] < 0;
    wide_t value = (wide_t)half[1] << 64 | half[0];
    if (negative) value = -value, seed = seeds + 1;
    uint16_t group[GROUPS];
    int before = 0, count;
    if (value >> 64 || scale > 18) {
        wide_t whole = value / power[scale], rest = value % power[scale];
        for (wide_t left = whole; left; left /= 10000) before++;
        for (int i = before - 1; i >= 0; i--, whole /= 10000) group[i] = (uint16_t)(whole % 10000);
        count = before;
        for (int left = scale; left > 0; left -= 4) {
            wide_t unit = left >= 4 ? power[left - 4] : 1;
            group[count++] = (uint16_t)(left >= 4 ? rest / unit : rest * (uint64_t)powers[4 - left]);
            rest %= unit;
        }
        return of_groups(group, count, before, seed);
    }
    uint64_t whole = (uint64_t)value / (uint64_t)powers[scale], rest = (uint64_t)value % (uint64_t)powers[scale];
    for (uint64_t left = whole; left; left /= 10000) before++;
    for (int i = before - 1; i >= 0; i--, whole /= 10000) group[i] = (uint16_t)(whole % 10000);
    count = before;
    for (int left = scale; left > 0; left -= 4) {
        uint64_t unit = left >= 4 ? (uint64_t)powers[left - 4] : 1;
        group[count++] = (uint16_t)(left >= 4 ? rest / unit : rest * (uint64_t)powers[4 - left]);
        rest %= unit;
    }
    return of_groups(group, count, before, seed);
}

static inline uint64_t of_real(const uint8_t *at, const seed_t *seed)
{
    double value;
    uint64_t bits;
    memcpy(&value, at, 8);
    if (value == 0) return seed->seed;
    memcpy(&bits, at, 8);
    if (value != value) bits = 0x7ff8000000000000u;
    uint8_t bytes[8];
    for (int i = 0; i < 8; i++) bytes[i] = (uint8_t)(bits >> 8 * i);
    return of_bytes(bytes, 8, bytes + 8, seed);
}

/* A time as its text, HH:MM:SS and the fraction without zeros at its end. */
static uint64_t of_time(int64_t micros, const seed_t *seed)
{
    uint8_t text[16];
    int64_t seconds = micros / 1000000, fraction = micros % 1000000;
    int64_t parts[3] = {seconds / 3600, seconds / 60 % 60, seconds % 60};
    int length = 0;
    for (int i = 0; i < 3; i++) {
        if (i) text[length++] = ':';
        text[length++] = (uint8_t)('0' + parts[i] / 10);
        text[length++] = (uint8_t)('0' + parts[i] % 10);
    }
    if (fraction) {
        text[length++] = '.';
        for (int64_t unit = 100000; fraction; fraction %= unit, unit /= 10) text[length++] = (uint8_t)('0' + fraction / unit);
    }
    return of_bytes(text, length, text + sizeof text, seed);
}

static inline int digit_of(uint8_t letter)
{
    return letter <= '9' ? letter - '0' : (letter | 32) - 'a' + 10;
}

/* A uuid, of which the text is known to be one, by its 16 bytes. */
static uint64_t of_uuid(const uint8_t *text, const seed_t *seed)
{
    uint8_t bytes[16];
    for (int i = 0, at = 0; i < 16; i++, at += 2) {
        if (text[at] == '-') at++;
        bytes[i] = (uint8_t)(digit_of(text[at]) << 4 | digit_of(text[at + 1]));
    }
    return of_bytes(bytes, 16, bytes + 16, seed);
}

/* Bytes, by the text of their hexadecimal digits; -1 where there is no memory for it. */
static int of_binary(
    const uint8_t *at, int64_t length, uint8_t **room, int64_t *size, const seed_t *seed, uint64_t *hash)
{
    if (2 * length > *size) {
        uint8_t *more = realloc(*room, (size_t)(2 * length));
        if (!more) return -1;
        *room = more, *size = 2 * length;
    }
    for (int64_t i = 0; i < length; i++) {
        (*room)[2 * i] = (uint8_t)"0123456789abcdef"[at[i] >> 4];
        (*room)[2 * i + 1] = (uint8_t)"0123456789abcdef"[at[i] & 15];
    }
    *hash = of_bytes(*room, 2 * length, *room + 2 * length, seed);
    return 0;
}

enum { INTEGER = 1, BOOLEAN, DATE, MOMENT, TEXT, DECIMAL, REAL, UUID, BINARY, TIME };

/* The hashes of the cells of a column: each is mixed into that of its row, and their sum is added to `total`.
 *
 * Returns how many, or -1 where there was no memory.
 */
EXPORTED int64_t lane(array_t array, int32_t sort, int32_t scale, uint64_t number, uint64_t *rows, uint64_t *total)
{
    uint8_t *room = NULL;
    int64_t size = 0;
    uint64_t sum = 0, none = of_word(5381, number);
    seed_t seeds[2], *seed = seeds;
    know(seeds, number);
    know(seeds + 1, ~number);
    wide_t power[PLACES] = {1};
    for (int i = 1; i < PLACES; i++) power[i] = power[i - 1] * 10;
    const int64_t *longs = (const int64_t *)(const void *)array.values;
    const int32_t *ints = (const int32_t *)(const void *)array.values;
    const uint8_t *end = array.edges ? array.values + array.edges[array.count] : NULL;

#define EACH(hashed)                                                                                                   \
    for (int64_t i = 0; i < array.count; i++) {                                                                        \
        uint64_t hash = is_null(&array, i) ? none : (hashed);                                                          \
        rows[i] ^= hash;                                                                                               \
        sum += hash;                                                                                                   \
    }                                                                                                                  \
    break

    switch (sort) {
    case INTEGER: EACH(of_integer(longs[i], seed));
    case BOOLEAN: EACH(of_known(array.values[(array.first + i) >> 3] >> ((array.first + i) & 7) & 1, seed));
    case DATE: EACH(of_known((uint32_t)ints[i] - A_DAY, seed));
    case MOMENT: EACH(of_moment(longs[i], seed));
    case TEXT: EACH(of_bytes(array.values + array.edges[i], array.edges[i + 1] - array.edges[i], end, seed));
    case DECIMAL: EACH(of_decimal(array.values + 16 * i, scale, power, seeds));
    case REAL: EACH(of_real(array.values + 8 * i, seed));
    case UUID: EACH(of_uuid(array.values + array.edges[i], seed));
    case TIME: EACH(of_time(longs[i], seed));
    case BINARY:
        for (int64_t i = 0; i < array.count; i++) {
            uint64_t hash = none;
            const uint8_t *at = array.values + array.edges[i];
            int64_t length = array.edges[i + 1] - array.edges[i];
            if (!is_null(&array, i) && of_binary(at, length, &room, &size, seed, &hash)) {
                free(room);
                return -1;
            }
            rows[i] ^= hash;
            sum += hash;
        }
    }
    free(room);
    *total += sum;
    return array.count;
}

/* The hashes of rows, of what their cells came to: in place. */
EXPORTED int64_t lane_rows(int64_t count, uint64_t *rows, uint64_t *total)
{
    uint64_t sum = 0;
    seed_t seed;
    know(&seed, 0);
    for (int64_t i = 0; i < count; i++) {
        rows[i] = of_integer((int64_t)rows[i], &seed);
        sum += rows[i];
    }
    *total += sum;
    return count;
}
