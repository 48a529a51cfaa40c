/* Looking: plain checks on Arrow arrays, as they lie in memory. */

#include "kernel.h"

/* Each of these marks with 1 the values that break a check, and returns how many there are; `broken` holds zeros. */

/* Texts that are null, empty, or begin with a byte of which `unsure` says that white space may: those are marked 2. */
EXPORTED int64_t look_blank(array_t array, const uint8_t *unsure, uint8_t *broken)
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
EXPORTED int64_t look_longest(array_t array)
{
    int32_t longest = 0, first = array.edges[0], last = array.edges[array.count];
    for (int64_t i = 0; i < array.count; i++) {
        int32_t length = array.edges[i + 1] - array.edges[i];
        longest = length > longest ? length : longest;
    }
    return last > first && memchr(array.values + first, 0, (size_t)(last - first)) ? -1 : longest;
}

/* Texts that are none of some words. */
EXPORTED int64_t look_among(array_t array, words_t words, uint8_t *broken)
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
EXPORTED int64_t look_places(array_t array, int32_t places, const uint8_t *allowed, uint8_t *broken)
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
EXPORTED int64_t look_outside(array_t array, int32_t width, int64_t least, int64_t most, uint8_t *broken)
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

static inline uint64_t stirred(uint64_t word)
{
    word ^= word >> 32;
    word *= 0xD6E8FEB86659FD93u;
    word ^= word >> 32;
    word *= 0xD6E8FEB86659FD93u;
    return word ^ word >> 32;
}

/* A hash of 64 bits of every text: eight bytes at a time, stirred. That of a null is 0. */
EXPORTED int64_t look_hashes(array_t array, uint64_t seed, uint64_t *out)
{
    for (int64_t i = 0; i < array.count; i++) {
        const uint8_t *at = array.values + array.edges[i];
        int64_t left = array.edges[i + 1] - array.edges[i];
        uint64_t word = 0, hash = stirred(seed ^ (uint64_t)left * 0x9E3779B97F4A7C15u);
        for (; left >= 8; left -= 8, at += 8) {
            memcpy(&word, at, 8);
            hash = stirred(hash ^ word) + 0x9E3779B97F4A7C15u;
        }
        if (left) {
            word = 0;
            memcpy(&word, at, (size_t)left);
            hash = stirred(hash ^ word);
        }
        out[i] = is_null(&array, i) ? 0 : stirred(hash);
    }
    return array.count;
}
