/* What the parts of the kernel share: words, Arrow arrays, and what holds for both sides of the call.
 *
 * Nothing here decides what is right: the readers accept only the plainest writing of a kind, and what is not plain is
 * marked ODD and read elsewhere, where each kind is defined. All arrays are the caller's and long enough.
 */

#ifndef NOMOTHETA_KERNEL
#define NOMOTHETA_KERNEL

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Raised with every change of a signature or a structure: the caller holds it against its own, and the sizes, too. */
enum { KERNEL_VERSION = 4 };

#if defined(_WIN32)
#define EXPORTED __declspec(dllexport)
#else
#define EXPORTED __attribute__((visibility("default")))
#endif

#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
#define LITTLE_ENDIAN_HERE 1
#else
#define LITTLE_ENDIAN_HERE 0
#endif

/* Words, one after the other: word i is text[edges[i] .. edges[i + 1]]. */
typedef struct {
    const uint8_t *text;
    const int32_t *edges;
    int64_t count;
} words_t;

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
static inline int few_and_short(words_t words, keys_t *keys)
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
#if LITTLE_ENDIAN_HERE
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

static const int64_t powers[19] = {
    1, 10, 100, 1000, 10000, 100000, 1000000, 10000000, 100000000, 1000000000, 10000000000, 100000000000,
    1000000000000, 10000000000000, 100000000000000, 1000000000000000, 10000000000000000, 100000000000000000,
    1000000000000000000};

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

/* A column of an Arrow batch as it is written for a database. `sort` says what it is; `first` is the bit of the first value
 * in `valid`, and of the first boolean; `edges` are those of texts.
 */
typedef struct {
    const uint8_t *values, *valid;
    const int32_t *edges;
    int64_t first;
    int32_t sort, scale;
} wire_t;

/* The cells of a member of JSON objects, see objects.c. */
typedef struct {
    uint8_t *text, *sorts;
    int32_t *edges;
    int64_t used;
} member_t;

#endif
