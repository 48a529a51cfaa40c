/* Wire formats: the rows of Arrow batches as databases take them. */

#include "kernel.h"

enum { AS_BOOL, AS_INT16, AS_INT32, AS_INT64, AS_FLOAT32, AS_FLOAT64, AS_DATE, AS_TIMESTAMP, AS_TEXT, AS_UUID, AS_NUMERIC, AS_TIME };


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
EXPORTED int64_t copy_rows(const wire_t *columns, int64_t width, int64_t rows, uint8_t *room)
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
EXPORTED int64_t bulk_rows(const wire_t *columns, int64_t width, int64_t rows, int64_t step, uint8_t *room, int64_t *ends)
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
