/* JSON objects (RFC 8259), one a line, taken apart into the members that are wanted: every digit as it is written. */

#include "kernel.h"

enum { ABSENT = 0, NOTHING = 1, TEXT = 2, VALUE = 3 };          /* what a cell is */
enum { SOUND = 0, NO_OBJECT = 1, TWICE = 2, UNKNOWN = 3 };      /* what a line is; why it is no object is told elsewhere */
enum { DEEPEST = 500 };

typedef struct {
    const uint8_t *at, *end;
} text_t;

/* Where a cell of the line was found; `escaped` where a text holds escapes. */
typedef struct {
    const uint8_t *start, *stop;
    uint8_t sort, escaped;
} found_t;

static inline void skip_space(text_t *text)
{
    while (text->at < text->end && (*text->at == ' ' || *text->at == '\t' || *text->at == '\r' || *text->at == '\n')) text->at++;
}

static inline int hexadecimal(uint8_t byte)
{
    if (byte >= '0' && byte <= '9') return byte - '0';
    byte |= 32;
    return byte >= 'a' && byte <= 'f' ? byte - 'a' + 10 : -1;
}

/* Four hexadecimal digits at `at`, or -1. */
static int32_t unit_of(const uint8_t *at, const uint8_t *end)
{
    if (end - at < 4) return -1;
    int32_t value = 0;
    for (int k = 0; k < 4; k++) {
        int digit = hexadecimal(at[k]);
        if (digit < 0) return -1;
        value = value * 16 + digit;
    }
    return value;
}

/* A string, from its quote on; *escaped is set where it holds escapes. Half a character (a lone surrogate) is none. */
static int pass_string(text_t *text, uint8_t *escaped)
{
    const uint8_t *at = text->at + 1, *end = text->end;
    *escaped = 0;
    for (; at < end; at++) {
        if (*at == '"') {
            text->at = at + 1;
            return 1;
        }
        if (*at < 0x20) return 0;
        if (*at != '\\') continue;
        *escaped = 1;
        if (++at >= end) return 0;
        if (*at == 'u') {
            int32_t unit = unit_of(at + 1, end);
            if (unit < 0 || (unit >= 0xDC00 && unit <= 0xDFFF)) return 0;
            at += 4;
            if (unit >= 0xD800 && unit <= 0xDBFF) {
                if (end - at < 7 || at[1] != '\\' || at[2] != 'u') return 0;
                unit = unit_of(at + 3, end);
                if (unit < 0xDC00 || unit > 0xDFFF) return 0;
                at += 6;
            }
        } else if (!memchr("\"\\/bfnrt", *at, 8)) {
            return 0;
        }
    }
    return 0;
}

static inline int is_digit(const text_t *text) { return text->at < text->end && *text->at >= '0' && *text->at <= '9'; }

static int pass_digits(text_t *text)
{
    if (!is_digit(text)) return 0;
    while (is_digit(text)) text->at++;
    return 1;
}

static int pass_number(text_t *text)
{
    if (*text->at == '-') text->at++;
    if (!is_digit(text)) return 0;
    if (*text->at == '0') text->at++;
    else pass_digits(text);
    if (text->at < text->end && *text->at == '.') {
        text->at++;
        if (!pass_digits(text)) return 0;
    }
    if (text->at < text->end && (*text->at | 32) == 'e') {
        text->at++;
        if (text->at < text->end && (*text->at == '+' || *text->at == '-')) text->at++;
        if (!pass_digits(text)) return 0;
    }
    return 1;
}

static int pass_word(text_t *text, const char *word, int64_t length)
{
    if (text->end - text->at < length || memcmp(text->at, word, (size_t)length) != 0) return 0;
    text->at += length;
    return 1;
}

static int pass_plain(text_t *text, uint8_t *escaped)
{
    switch (*text->at) {
    case '"': return pass_string(text, escaped);
    case 't': return pass_word(text, "true", 4);
    case 'f': return pass_word(text, "false", 5);
    case 'n': return pass_word(text, "null", 4);
    default: return pass_number(text);
    }
}

/* Any value; what is nested without calling itself, so that no depth can end the program. */
static int pass_value(text_t *text, uint8_t *escaped)
{
    uint8_t open[DEEPEST], inner;
    int depth = 0;
    skip_space(text);
    if (text->at >= text->end) return 0;
    if (*text->at != '{' && *text->at != '[') return pass_plain(text, escaped);
    for (;;) {
        if (text->at >= text->end) return 0;
        if (*text->at == '{' || *text->at == '[') { /* opened: empty, or a first value */
            if (depth == DEEPEST) return 0;
            open[depth++] = *text->at++;
            skip_space(text);
            if (text->at < text->end && *text->at == open[depth - 1] + 2) goto closed;
        } else if (!pass_plain(text, &inner)) {
            return 0;
        } else {
            goto ended;
        }
        goto next;
    ended: /* behind a value: the next one, or the end of what it stands in */
        skip_space(text);
        if (text->at >= text->end) return 0;
        if (*text->at == ',') {
            text->at++;
            goto next;
        }
        if (*text->at != open[depth - 1] + 2) return 0; /* } and ] stand two behind { and [ */
    closed:
        text->at++;
        if (!--depth) return 1;
        goto ended;
    next:
        skip_space(text);
        if (open[depth - 1] == '{') {
            if (text->at >= text->end || *text->at != '"' || !pass_string(text, &inner)) return 0;
            skip_space(text);
            if (text->at >= text->end || *text->at != ':') return 0;
            text->at++;
            skip_space(text);
        }
    }
}

/* A string without its quotes, its escapes replaced; how many bytes it takes, never more than before. */
static int64_t put_string(uint8_t *out, const uint8_t *at, const uint8_t *end)
{
    uint8_t *start = out;
    while (at < end) {
        if (*at != '\\') {
            *out++ = *at++;
            continue;
        }
        uint8_t sign = at[1];
        at += 2;
        if (sign != 'u') {
            const char *from = "\"\\/bfnrt", *to = "\"\\/\b\f\n\r\t";
            *out++ = (uint8_t)to[strchr(from, sign) - from];
            continue;
        }
        uint32_t code = (uint32_t)unit_of(at, end);
        at += 4;
        if (code >= 0xD800 && code <= 0xDBFF) {
            code = 0x10000 + ((code - 0xD800) << 10) + ((uint32_t)unit_of(at + 2, end) - 0xDC00);
            at += 6;
        }
        if (code < 0x80) {
            *out++ = (uint8_t)code;
        } else if (code < 0x800) {
            *out++ = (uint8_t)(0xC0 | code >> 6);
            *out++ = (uint8_t)(0x80 | (code & 63));
        } else if (code < 0x10000) {
            *out++ = (uint8_t)(0xE0 | code >> 12);
            *out++ = (uint8_t)(0x80 | (code >> 6 & 63));
            *out++ = (uint8_t)(0x80 | (code & 63));
        } else {
            *out++ = (uint8_t)(0xF0 | code >> 18);
            *out++ = (uint8_t)(0x80 | (code >> 12 & 63));
            *out++ = (uint8_t)(0x80 | (code >> 6 & 63));
            *out++ = (uint8_t)(0x80 | (code & 63));
        }
    }
    return out - start;
}

/* Which of the names this is, -1 for none; `likely` is looked at first. */
static int64_t place_of(const uint8_t *name, int64_t length, words_t names, int64_t likely)
{
    for (int64_t k = 0; k < names.count; k++) {
        int64_t i = likely + k < names.count ? likely + k : likely + k - names.count;
        if (names.edges[i + 1] - names.edges[i] == length && memcmp(names.text + names.edges[i], name, (size_t)length) == 0)
            return i;
    }
    return -1;
}

static int read_object(text_t *text, words_t names, found_t *found, int32_t strict, uint8_t *scratch)
{
    int64_t likely = 0;
    int verdict = SOUND;
    memset(found, 0, (size_t)names.count * sizeof(found_t));
    skip_space(text);
    if (text->at >= text->end || *text->at != '{') return NO_OBJECT;
    text->at++;
    skip_space(text);
    int empty = text->at < text->end && *text->at == '}';
    while (!empty) {
        uint8_t escaped = 0;
        skip_space(text);
        if (text->at >= text->end || *text->at != '"') return NO_OBJECT;
        const uint8_t *name = text->at + 1;
        if (!pass_string(text, &escaped)) return NO_OBJECT;
        int64_t length = text->at - 1 - name;
        if (escaped) {
            length = put_string(scratch, name, text->at - 1);
            name = scratch;
        }
        int64_t place = place_of(name, length, names, likely);
        skip_space(text);
        if (text->at >= text->end || *text->at != ':') return NO_OBJECT;
        text->at++;
        skip_space(text);
        found_t cell = {text->at, NULL, VALUE, 0};
        if (!pass_value(text, &cell.escaped)) return NO_OBJECT;
        cell.stop = text->at;
        if (*cell.start == '"') {
            cell.sort = TEXT;
            cell.start++;
            cell.stop--;
        } else if (*cell.start == 'n') {
            cell.sort = NOTHING;
        }
        if (place < 0) {
            if (strict && verdict == SOUND) verdict = UNKNOWN;
        } else {
            if (found[place].sort != ABSENT) verdict = TWICE;
            found[place] = cell;
            likely = place + 1 < names.count ? place + 1 : 0;
        }
        skip_space(text);
        if (text->at >= text->end) return NO_OBJECT;
        if (*text->at == '}') break;
        if (*text->at != ',') return NO_OBJECT;
        text->at++;
    }
    text->at++;
    skip_space(text);
    return text->at == text->end ? verdict : NO_OBJECT;
}

/* The members of the objects in some lines.
 *
 * lines: the texts, each to be one object. names: the members that are wanted; of others a line may have none if `strict`.
 * members: of each name, room for all the text of the lines, for their number and one more edges, and for their sorts.
 * verdicts: of each line. A line that is not sound has no cells. Returns 0, or -1 where there is no room.
 */
EXPORTED int64_t read_objects(array_t lines, words_t names, int32_t strict, member_t *members, uint8_t *verdicts)
{
    int64_t longest = 1;
    for (int64_t i = 0; i < lines.count; i++)
        if (lines.edges[i + 1] - lines.edges[i] > longest) longest = lines.edges[i + 1] - lines.edges[i];
    found_t *found = malloc((size_t)(names.count + 1) * sizeof(found_t));
    uint8_t *scratch = malloc((size_t)longest);
    if (!found || !scratch) {
        free(found);
        free(scratch);
        return -1;
    }
    for (int64_t i = 0; i < lines.count; i++) {
        text_t text = {lines.values + lines.edges[i], lines.values + lines.edges[i + 1]};
        int verdict = read_object(&text, names, found, strict, scratch);
        verdicts[i] = (uint8_t)verdict;
        for (int64_t at = 0; at < names.count; at++) {
            member_t *member = members + at;
            const found_t *cell = found + at;
            uint8_t sort = verdict == SOUND ? cell->sort : ABSENT;
            if (sort == TEXT && cell->escaped) {
                member->used += put_string(member->text + member->used, cell->start, cell->stop);
            } else if (sort >= TEXT) {
                memcpy(member->text + member->used, cell->start, (size_t)(cell->stop - cell->start));
                member->used += cell->stop - cell->start;
            }
            member->sorts[i] = sort;
            member->edges[i + 1] = (int32_t)member->used;
        }
    }
    free(found);
    free(scratch);
    return 0;
}
