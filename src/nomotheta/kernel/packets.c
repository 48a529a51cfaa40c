/* Rows as MariaDB's text protocol sends them: packets of texts with their lengths in front, into Arrow's arrays.
 *
 * First it is measured how many whole rows are there and how long the texts of each column are, then they are copied.
 */

#include "kernel.h"

enum { MORE = 0, AT_END = 1, AT_ERROR = 2, AT_LARGE = 3, MALFORMED = 4 };
enum { LARGE = 0xFFFFFF, IS_NULL = 0xFB, IN_TWO = 0xFC, IN_THREE = 0xFD, IN_EIGHT = 0xFE, FAILED = 0xFF, LONGEST_END = 9 };

/* The length of a text, and where it begins; -1 for null, -2 where the packet ends before it does. */
static inline int64_t sized(const uint8_t **at, const uint8_t *end)
{
    const uint8_t *in = *at;
    if (in >= end) return -2;
    uint64_t length = *in++;
    int bytes = 0;
    if (length == IS_NULL) {
        *at = in;
        return -1;
    }
    if (length == IN_TWO) bytes = 2;
    if (length == IN_THREE) bytes = 3;
    if (length == IN_EIGHT) bytes = 8;
    if (length == FAILED || end - in < bytes) return -2;
    if (bytes) {
        length = 0;
        for (int i = 0; i < bytes; i++) length |= (uint64_t)in[i] << (8 * i);
        in += bytes;
    }
    if (length > (uint64_t)(end - in)) return -2;
    *at = in;
    return (int64_t)length;
}

/* How many whole rows of so many columns the data begin with; `bytes` are their texts' by column. In `ends` is where the
 * first byte behind them is, and what comes there. */
EXPORTED int64_t packet_rows(const uint8_t *data, int64_t size, int64_t columns, int64_t most, int64_t *bytes, int64_t *ends)
{
    int64_t at = 0, rows = 0;
    ends[1] = MORE;
    memset(bytes, 0, (size_t)columns * sizeof *bytes);
    while (rows < most && size - at >= 4) {
        int64_t length = data[at] | (int64_t)data[at + 1] << 8 | (int64_t)data[at + 2] << 16;
        if (length == LARGE) {
            ends[1] = AT_LARGE;
            break;
        }
        if (size - at - 4 < length) break;
        const uint8_t *in = data + at + 4, *end = in + length;
        if (length && *in == FAILED) ends[1] = AT_ERROR;
        if (length && *in == IN_EIGHT && length < LONGEST_END) ends[1] = AT_END;
        if (ends[1]) break;
        for (int64_t column = 0; column < columns; column++) {
            int64_t text = sized(&in, end);
            if (text == -2) {
                ends[1] = MALFORMED;
                break;
            }
            if (text > 0) {
                bytes[column] += text;
                in += text;
            }
        }
        if (!ends[1] && in != end) ends[1] = MALFORMED;
        if (ends[1]) break;
        at += 4 + length;
        rows++;
    }
    ends[0] = at;
    return rows;
}

/* The texts of so many rows that were measured: of each column its text, the edges of its cells, and a byte for each that
 * says whether there is a value. */
EXPORTED int64_t packet_texts(const uint8_t *data, int64_t rows, int64_t columns, uint8_t **texts, int32_t **edges, uint8_t **valid)
{
    const uint8_t *in = data;
    for (int64_t column = 0; column < columns; column++) edges[column][0] = 0;
    for (int64_t row = 0; row < rows; row++) {
        const uint8_t *end = in + 4 + (in[0] | (int64_t)in[1] << 8 | (int64_t)in[2] << 16);
        in += 4;
        for (int64_t column = 0; column < columns; column++) {
            int64_t length = sized(&in, end);
            int32_t from = edges[column][row];
            valid[column][row] = length >= 0;
            if (length > 0) {
                memcpy(texts[column] + from, in, (size_t)length);
                in += length;
            }
            edges[column][row + 1] = from + (int32_t)(length > 0 ? length : 0);
        }
    }
    return in - data;
}
