/* What a text could be read as, as one number: what types/readings.py finds for whole columns.
 *
 * The number: what it is, in the lowest byte; the letter between date and time, or the number of the word; digits of
 * the second and one more; the zone: 0 none, 1 `Z` (of UUIDs: 1 small, 2 capital letters), else 2 and the minutes, and
 * 1,440 more west of Greenwich. 0 for a text that no reading fits.
 */

enum { T_NONE, T_DATE, T_TIME, T_TIMESTAMP, T_TIMESTAMP_TZ, T_UUID, T_BOOLEAN, T_DOUBLE };
enum { LONGEST_READING = 36, WEST = 1440 };

static const char *const WORDS[] = {"true", "false", "TRUE", "FALSE", "True", "False", "yes", "no", "YES", "NO",
                                    "Yes", "No", "y", "n", "Y", "N", "t", "f", "T", "F", NULL};

static inline uint64_t reading(unsigned name, unsigned separator, int digits, unsigned zone) {
    return name | (uint64_t)separator << 8 | (uint64_t)(unsigned)(digits + 1) << 16 | (uint64_t)zone << 24;
}

static inline int is_decimal(uint8_t c) { return c >= '0' && c <= '9'; }

/* Returns the number of `count` digits at s; -1 if there is anything else. */
static inline int digits_at(const uint8_t *s, int count) {
    int value = 0;
    for (int i = 0; i < count; i++) {
        if (!is_decimal(s[i])) return -1;
        value = value * 10 + (s[i] - '0');
    }
    return value;
}

static inline int is_below(int value, int limit) { return value >= 0 && value < limit; }

static int is_date(const uint8_t *s) {
    static const int days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    if (s[4] != '-' || s[7] != '-') return 0;
    int year = digits_at(s, 4), month = digits_at(s + 5, 2), day = digits_at(s + 8, 2);
    if (year < 1 || month < 1 || month > 12 || day < 1) return 0;
    int leap = (year % 4 == 0) && (year % 100 != 0 || year % 400 == 0);
    return day <= days[month - 1] + (leap && month == 2);
}

static uint64_t read_time(const uint8_t *s, size_t size) {
    if (s[2] != ':' || !is_below(digits_at(s, 2), 24) || !is_below(digits_at(s + 3, 2), 60)) return 0;
    if (size == 5) return reading(T_TIME, 0, -1, 0);
    if (size < 8 || s[5] != ':' || !is_below(digits_at(s + 6, 2), 60)) return 0;
    if (size == 8) return reading(T_TIME, 0, 0, 0);
    if (size < 10 || size > 18 || s[8] != '.') return 0;
    for (size_t i = 9; i < size; i++) if (!is_decimal(s[i])) return 0;
    return reading(T_TIME, 0, (int)size - 9, 0);
}

static int read_zone(const uint8_t *s, size_t size, unsigned *zone) {
    *zone = size == 1;
    if (size == 0 || (size == 1 && *s == 'Z')) return 1;
    if (size != 6 || (*s != '+' && *s != '-') || s[3] != ':') return 0;
    int hours = digits_at(s + 1, 2), minutes = digits_at(s + 4, 2);
    if (!is_below(hours, 24) || !is_below(minutes, 60) || (*s == '-' && !hours && !minutes)) return 0;
    *zone = 2 + (unsigned)(hours * 60 + minutes) + (*s == '-' ? WEST : 0);
    return 1;
}

/* Reads what follows a date, of at least 16 bytes with it. */
static uint64_t read_timestamp(const uint8_t *s, size_t size) {
    if ((s[10] != 'T' && s[10] != ' ') || s[13] != ':') return 0;
    if (!is_below(digits_at(s + 11, 2), 24) || !is_below(digits_at(s + 14, 2), 60)) return 0;
    size_t at = 16;
    int digits = -1;
    if (at < size && s[at] == ':') {
        if (size < 19 || !is_below(digits_at(s + 17, 2), 60)) return 0;
        at = 19;
        digits = 0;
        if (at < size && s[at] == '.') {
            for (at++; at < size && is_decimal(s[at]); at++) digits++;
            if (digits < 1 || digits > 9) return 0;
        }
    }
    unsigned zone;
    if (!read_zone(s + at, size - at, &zone)) return 0;
    int year = digits_at(s, 4);
    if (digits > 6 && (year < 1678 || year > 2261)) return 0;
    return reading(zone ? T_TIMESTAMP_TZ : T_TIMESTAMP, s[10], digits, zone);
}

static uint64_t read_uuid(const uint8_t *s) {
    int small = 0, capital = 0;
    for (int i = 0; i < LONGEST_READING; i++) {
        if (i == 8 || i == 13 || i == 18 || i == 23) {
            if (s[i] != '-') return 0;
        } else if (s[i] >= 'a' && s[i] <= 'f') small = 1;
        else if (s[i] >= 'A' && s[i] <= 'F') capital = 1;
        else if (!is_decimal(s[i])) return 0;
    }
    return small && capital ? 0 : reading(T_UUID, 0, 0, capital ? 2 : 1);
}

static uint64_t read_word_of(const uint8_t *s, size_t size) {
    static const char *const specials[] = {"INF", "-INF", "NaN"};
    for (int i = 0; i < 3; i++)
        if (strlen(specials[i]) == size && !memcmp(specials[i], s, size)) return reading(T_DOUBLE, 0, 0, 0);
    for (unsigned i = 0; WORDS[i]; i++)
        if (strlen(WORDS[i]) == size && !memcmp(WORDS[i], s, size)) return reading(T_BOOLEAN, i, 0, 0);
    return 0;
}

/* Returns what a text could be read as. */
static uint64_t reading_of(const char *text, size_t size) {
    const uint8_t *s = (const uint8_t *)text;
    if (size == 0 || size > LONGEST_READING) return 0;
    if (size <= 5) {
        if (strchr("tfynTFYNI-", *s)) {
            uint64_t found = read_word_of(s, size);
            if (found) return found;
        }
        return size == 5 && is_decimal(*s) ? read_time(s, size) : 0;
    }
    if (size == LONGEST_READING && s[8] == '-') return read_uuid(s);
    if (!is_decimal(*s)) return 0;
    if (s[2] == ':') return read_time(s, size);
    if (size >= 10 && s[4] == '-' && is_date(s)) {
        if (size == 10) return reading(T_DATE, 0, 0, 0);
        return size >= 16 ? read_timestamp(s, size) : 0;
    }
    return 0;
}
