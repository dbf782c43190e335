/* Typed columns: what stands at a place of a form as the buffers of an Arrow array, where all of it fits the type.
 *
 * It makes what types/fitting.py makes of the same lanes; a column with any value that is not plainly of its type is
 * left to that, which also says what does not fit. The columns are laid out as Arrow has them: a bit for each row that
 * has a value, cells of one width or offsets, and the bytes of texts.
 */
#include <float.h>

enum { C_BOOLEAN, C_INTEGER, C_DECIMAL, C_DOUBLE, C_TEXT, C_DATE, C_TIME, C_TIMESTAMP, C_TIMESTAMP_TZ, C_UUID, C_TYPES };
enum { WHOLE_DOUBLE_POWER = 22, MOST_DECIMAL_DIGITS = 38, INTEGER_SIZE = 24 };
static const int64_t SAFE_DOUBLE = (int64_t)1 << 53;

typedef struct {
    int32_t node;
    uint8_t type, drops_empty, keeps_values, fits, has_dropped;
    int digits, scale;  /* of a decimal all digits, and those after the point; of moments those of the second */
    PyObject *words;    /* for true and false in turn; belongs to the caller */
    size_t rows, valid, size;
    PyObject *there, *cells, *data;
} Column;

typedef struct { int32_t row; int kind; int64_t integer; const char *text; size_t size; } Cell;
typedef struct { const char *data; size_t boolean, integer, number, text; } Cursor;

/* Reads the next occurrence of a node; all have to be read in turn. */
static inline void read_cell(const Node *n, size_t at, Cursor *c, Cell *cell) {
    cell->row = n->in_every_row ? (int32_t)at : AT(n->rows, int32_t, at);
    cell->kind = AT(n->kinds, uint8_t, at);
    switch (cell->kind) {
        case K_BOOLEAN: cell->integer = AT(n->booleans, uint8_t, c->boolean++); break;
        case K_INTEGER: cell->integer = AT(n->integers, int64_t, c->integer++); break;
        case K_LONG_INTEGER: case K_FRACTION:
            cell->size = ref_size(&n->numbers, c->number);
            cell->text = c->data + ref_start(&n->numbers, c->number++);
            break;
        case K_TEXT:
            cell->size = ref_size(&n->texts, c->text);
            cell->text = c->data + ref_start(&n->texts, c->text++);
    }
}

static inline int is_scalar(int kind) { return kind >= K_BOOLEAN && kind <= K_TEXT; }

/* Writes the digits of an integer to the end of a buffer of INTEGER_SIZE bytes; returns where they begin. */
static const char *integer_text(int64_t value, char *buffer, size_t *size) {
    char *end = buffer + INTEGER_SIZE, *s = end;
    uint64_t rest = value < 0 ? 0 - (uint64_t)value : (uint64_t)value;
    do *--s = (char)('0' + rest % 10); while (rest /= 10);
    if (value < 0) *--s = '-';
    *size = (size_t)(end - s);
    return s;
}

/* Returns a scalar as a column of texts has it. */
static const char *cell_text(const Cell *cell, char *buffer, size_t *size) {
    if (cell->kind == K_INTEGER) return integer_text(cell->integer, buffer, size);
    if (cell->kind == K_BOOLEAN) {
        *size = cell->integer ? 4 : 5;
        return cell->integer ? "true" : "false";
    }
    *size = cell->size;
    return cell->text;
}

/* ---- single values: each returns whether it fits ------------------------------------------------------ */

static int put_boolean(const Column *c, const Cell *cell, int *value) {
    if (cell->kind == K_BOOLEAN) { *value = (int)cell->integer; return 1; }
    if (cell->kind != K_TEXT && cell->kind != K_INTEGER) return 0;
    char buffer[INTEGER_SIZE];
    size_t size;
    const char *text = cell_text(cell, buffer, &size);
    for (Py_ssize_t i = 0; i < PyTuple_GET_SIZE(c->words); i++) {
        PyObject *word = PyTuple_GET_ITEM(c->words, i);
        if ((size_t)PyBytes_GET_SIZE(word) == size && !memcmp(PyBytes_AS_STRING(word), text, size)) {
            *value = i % 2 == 0;
            return 1;
        }
    }
    return 0;
}

static int put_integer(const Cell *cell, char *at) {
    if (cell->kind != K_INTEGER) return 0;
    memcpy(at, &cell->integer, 8);
    return 1;
}

/* Takes a number text without an exponent apart: its sign, where its digits are, and how many stand after the point. */
typedef struct { int negative; const char *whole, *fraction; size_t whole_size, fraction_size; } Parts;

static int parts_of(const char *text, size_t size, Parts *p) {
    const char *s = text, *end = text + size;
    p->negative = s < end && *s == '-';
    s += p->negative;
    p->whole = s;
    while (s < end && is_decimal((uint8_t)*s)) s++;
    p->whole_size = (size_t)(s - p->whole);
    p->fraction = s;
    p->fraction_size = 0;
    if (s < end && *s == '.') {
        p->fraction = ++s;
        while (s < end && is_decimal((uint8_t)*s)) s++;
        p->fraction_size = (size_t)(s - p->fraction);
    }
    return s == end && p->whole_size;
}

static int put_decimal(const Column *c, const Cell *cell, char *at) {
#ifdef __SIZEOF_INT128__
    char buffer[INTEGER_SIZE];
    size_t size;
    Parts p;
    if (cell->kind != K_INTEGER && cell->kind != K_LONG_INTEGER && cell->kind != K_FRACTION) return 0;
    const char *text = cell_text(cell, buffer, &size);
    if (!parts_of(text, size, &p)) return 0;
    while (p.whole_size && *p.whole == '0') { p.whole++; p.whole_size--; }
    while (p.fraction_size > (size_t)c->scale && p.fraction[p.fraction_size - 1] == '0') p.fraction_size--;
    if (p.fraction_size > (size_t)c->scale || p.whole_size > (size_t)(c->digits - c->scale)) return 0;
    unsigned __int128 value = 0;
    for (size_t i = 0; i < p.whole_size; i++) value = value * 10 + (unsigned)(p.whole[i] - '0');
    for (size_t i = 0; i < (size_t)c->scale; i++)
        value = value * 10 + (unsigned)(i < p.fraction_size ? p.fraction[i] - '0' : 0);
    if (p.negative) value = -value;
    memcpy(at, &value, 16);
    return 1;
#else
    (void)c; (void)cell; (void)at;
    return 0;
#endif
}

/* Only what two exact doubles make in one step, which rounds once (IEEE 754): so many digits, so small a power. */
static int put_double(const Cell *cell, char *at) {
    static const double powers[] = {1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                                    1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};
    double value;
    if (cell->kind == K_INTEGER) {
        if (cell->integer > SAFE_DOUBLE || cell->integer < -SAFE_DOUBLE) return 0;
        value = (double)cell->integer;
    } else {
        Parts p;
        if (FLT_EVAL_METHOD != 0 || (cell->kind != K_LONG_INTEGER && cell->kind != K_FRACTION)) return 0;
        if (!parts_of(cell->text, cell->size, &p) || p.fraction_size > WHOLE_DOUBLE_POWER) return 0;
        int64_t digits = 0;
        for (size_t i = 0; i < p.whole_size + p.fraction_size; i++) {
            digits = digits * 10 + (i < p.whole_size ? p.whole[i] : p.fraction[i - p.whole_size]) - '0';
            if (digits > SAFE_DOUBLE) return 0;
        }
        value = (double)digits / powers[p.fraction_size];
        if (p.negative) value = -value;
    }
    memcpy(at, &value, 8);
    return 1;
}

/* Days since 1970-01-01 of a date of the Gregorian calendar; see `days_of` in types/readings.py. */
static int64_t days_at(const uint8_t *s) {
    int64_t year = digits_at(s, 4), month = digits_at(s + 5, 2), day = digits_at(s + 8, 2);
    year -= month <= 2;
    return year * 365 + year / 4 - year / 100 + year / 400 + (153 * ((month + 9) % 12) + 2) / 5 + day - 1 - 719468;
}

static int put_date(const Cell *cell, char *at) {
    const uint8_t *s = (const uint8_t *)cell->text;
    if (cell->kind != K_TEXT || cell->size != 10 || !is_date(s)) return 0;
    int32_t days = (int32_t)days_at(s);
    memcpy(at, &days, 4);
    return 1;
}

/* Returns the nanoseconds of the day that stand at s, as the reading says; -1 if it has more digits than are wanted. */
static int64_t clock_at(const uint8_t *s, int digits, int most_digits) {
    int64_t seconds = (int64_t)digits_at(s, 2) * 3600 + digits_at(s + 3, 2) * 60, fraction = 0;
    if (digits >= 0) seconds += digits_at(s + 6, 2);
    for (int i = 0; i < 9; i++) {
        int digit = i < digits ? s[9 + i] - '0' : 0;
        if (i >= most_digits && digit) return -1;
        fraction = fraction * 10 + digit;
    }
    return seconds * 1000000000 + fraction;
}

static int put_time(const Column *c, const Cell *cell, char *at) {
    const uint8_t *s = (const uint8_t *)cell->text;
    uint64_t code = cell->kind == K_TEXT && cell->size >= 5 ? read_time(s, cell->size) : 0;
    int64_t value = code ? clock_at(s, (int)(code >> 16 & 0xff) - 1, c->digits) : -1;
    if (value < 0) return 0;
    if (c->digits <= 6) value /= 1000;
    memcpy(at, &value, 8);
    return 1;
}

static int put_timestamp(const Column *c, const Cell *cell, char *at) {
    const uint8_t *s = (const uint8_t *)cell->text;
    if (cell->kind != K_TEXT || cell->size < 16 || cell->size > LONGEST_READING || !is_date(s)) return 0;
    uint64_t code = read_timestamp(s, cell->size);
    if ((code & 0xff) != (c->type == C_TIMESTAMP ? T_TIMESTAMP : T_TIMESTAMP_TZ)) return 0;
    int64_t clock = clock_at(s + 11, (int)(code >> 16 & 0xff) - 1, c->digits), zone = (int64_t)(code >> 24);
    int year = digits_at(s, 4);
    if (clock < 0 || (c->digits > 6 && (year < 1678 || year > 2261))) return 0;
    zone = zone < 2 ? 0 : zone - 2 >= WEST ? -(zone - 2 - WEST) : zone - 2;
    int64_t seconds = days_at(s) * 86400 - zone * 60, unit = c->digits > 6 ? 1000000000 : 1000000;
    int64_t value = seconds * unit + clock / (1000000000 / unit);
    memcpy(at, &value, 8);
    return 1;
}

static int is_uuid(const Cell *cell) {
    if (cell->kind != K_TEXT || cell->size != LONGEST_READING) return 0;
    for (int i = 0; i < LONGEST_READING; i++) {
        uint8_t letter = (uint8_t)cell->text[i], small = letter | 0x20;
        int is_dash = i == 8 || i == 13 || i == 18 || i == 23;
        if (is_dash ? letter != '-' : !is_decimal(letter) && (small < 'a' || small > 'f')) return 0;
    }
    return 1;
}

/* ---- whole columns ---------------------------------------------------------------------------------- */

static inline int is_of_texts(const Column *c) { return c->type == C_TEXT || c->type == C_UUID; }

static size_t cell_width(const Column *c) {
    return c->type == C_DECIMAL ? 16 : c->type == C_DATE ? 4 : 8;
}

static void size_column(const Emitter *e, Column *c) {
    const Node *n = &e->nodes[c->node];
    char buffer[INTEGER_SIZE];
    size_t size;
    c->rows = (size_t)e->nodes[n->level].row_count;
    c->size = 0;
    if (!is_of_texts(c)) return;
    c->size = n->texts.size + n->numbers.size;
    for (size_t i = 0; i < n->booleans.used; i++) c->size += AT(n->booleans, uint8_t, i) ? 4 : 5;
    for (size_t i = 0; i < n->integers.used / 8; i++) {
        integer_text(AT(n->integers, int64_t, i), buffer, &size);
        c->size += size;
    }
}

static int put_cell(const Column *c, const Cell *cell, char *cells) {
    char *at = cells + (size_t)cell->row * cell_width(c);
    int value = 0;
    switch (c->type) {
        case C_BOOLEAN:
            if (!put_boolean(c, cell, &value)) return 0;
            cells[cell->row >> 3] |= (char)(value << (cell->row & 7));
            return 1;
        case C_INTEGER: return put_integer(cell, at);
        case C_DECIMAL: return put_decimal(c, cell, at);
        case C_DOUBLE: return put_double(cell, at);
        case C_DATE: return put_date(cell, at);
        case C_TIME: return put_time(c, cell, at);
        case C_TIMESTAMP: case C_TIMESTAMP_TZ: return put_timestamp(c, cell, at);
        default: return 0;
    }
}

/* Fills a column; c->fits says whether all values fit. Runs without the interpreter lock. */
static void fill_column(const Emitter *e, const TapeView *t, Column *c) {
    const Node *n = &e->nodes[c->node];
    char *there = PyBytes_AS_STRING(c->there), *cells = PyBytes_AS_STRING(c->cells), buffer[INTEGER_SIZE];
    size_t count = n->kinds.used, size;
    int texts = is_of_texts(c);
    Cursor cursor = {.data = t->data.buf};
    Cell cell = {0};
    memset(there, 0, (c->rows + 7) / 8);
    memset(cells, 0, (size_t)PyBytes_GET_SIZE(c->cells));
    for (size_t i = 0; i < count; i++) {
        read_cell(n, i, &cursor, &cell);
        if (!is_scalar(cell.kind)) continue;
        if (cell.kind == K_TEXT && !cell.size && c->drops_empty) { c->has_dropped = 1; continue; }
        if (there[cell.row >> 3] & 1 << (cell.row & 7)) return;
        if (texts) {
            if (c->type == C_UUID && !is_uuid(&cell)) return;
            cell_text(&cell, buffer, &size);
            ((int64_t *)cells)[cell.row + 1] = (int64_t)size;
        } else if (!put_cell(c, &cell, cells)) return;
        there[cell.row >> 3] |= (char)(1 << (cell.row & 7));
        c->valid++;
    }
    c->fits = 1;
    if (!texts) return;
    int64_t *offsets = (int64_t *)cells;
    for (size_t row = 0; row < c->rows; row++) offsets[row + 1] += offsets[row];
    if (!c->size) return;
    char *data = PyBytes_AS_STRING(c->data);
    cursor = (Cursor){.data = t->data.buf};
    for (size_t i = 0; i < count; i++) {
        read_cell(n, i, &cursor, &cell);
        if (!is_scalar(cell.kind)) continue;
        const char *text = cell_text(&cell, buffer, &size);
        if (size) memcpy(data + offsets[cell.row], text, size);
    }
}

/* Takes what is wanted: a list of (place, type, digits, scale, whether empty texts are none, words, whether
 * the lanes have the values too). */
static Column *take_columns(const Emitter *e, PyObject *wanted, Py_ssize_t *count) {
    *count = PyList_GET_SIZE(wanted);
    Column *columns = calloc((size_t)*count + 1, sizeof(Column));
    if (!columns) { PyErr_NoMemory(); return NULL; }
    for (Py_ssize_t i = 0; i < *count; i++) {
        int place, type, digits, scale, drops, keeps;
        PyObject *words;
        if (!PyArg_ParseTuple(PyList_GET_ITEM(wanted, i), "iiiipO!p", &place, &type, &digits, &scale, &drops, &PyTuple_Type,
                              &words, &keeps)) goto fail;
        int is_right = place >= 0 && place < e->count && type >= 0 && type < C_TYPES && digits >= 0 && scale >= 0 &&
                       digits <= MOST_DECIMAL_DIGITS && (type != C_DECIMAL || scale <= digits);
        for (Py_ssize_t w = 0; is_right && w < PyTuple_GET_SIZE(words); w++) is_right = PyBytes_Check(PyTuple_GET_ITEM(words, w));
        if (!is_right) {
            PyErr_SetString(PyExc_ValueError, "this is no column");
            goto fail;
        }
        columns[i] = (Column){.node = place, .type = (uint8_t)type,                               .drops_empty = (uint8_t)drops, .keeps_values = (uint8_t)keeps, .digits = digits,
                              .scale = scale, .words = words};
    }
    return columns;
fail:
    free(columns);
    return NULL;
}

/* Makes the memory of the columns; they are filled later without the interpreter lock. */
static int room_for_columns(Column *columns, Py_ssize_t count) {
    for (Py_ssize_t i = 0; i < count; i++) {
        Column *c = &columns[i];
        size_t cells = c->type == C_BOOLEAN ? (c->rows + 7) / 8 : (c->rows + (size_t)is_of_texts(c)) * cell_width(c);
        c->there = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)((c->rows + 7) / 8));
        c->cells = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)cells);
        if (is_of_texts(c)) c->data = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)c->size);
        if (!c->there || !c->cells || (is_of_texts(c) && !c->data)) return -1;
    }
    return 0;
}

/* The values that columns have are not given as lanes too, but where they are wanted or one did not fit. */
static void let_go_of_lanes(Emitter *e, const Column *columns, Py_ssize_t count) {
    for (int pass = 0; pass < 2; pass++)
        for (Py_ssize_t i = 0; i < count; i++) {
            Node *n = &e->nodes[columns[i].node];
            if (pass == 0) n->keeps_lanes |= columns[i].keeps_values || !columns[i].fits || columns[i].has_dropped;
            else if (!n->keeps_lanes)
                n->booleans.used = n->integers.used = n->numbers.refs.used = n->numbers.size = n->texts.refs.used =
                    n->texts.size = 0;
        }
}

/* Returns for each column what it is made of, (rows, rows with a value, bits, cells, data), or None. */
static PyObject *columns_made(const Column *columns, Py_ssize_t count) {
    PyObject *list = PyList_New(count);
    for (Py_ssize_t i = 0; list && i < count; i++) {
        const Column *c = &columns[i];
        PyObject *made = !c->fits ? Py_NewRef(Py_None)
                                  : Py_BuildValue("(nnOOO)", (Py_ssize_t)c->rows, (Py_ssize_t)c->valid,
                                                  c->valid == c->rows ? Py_None : c->there, c->cells,
                                                  c->data ? c->data : Py_None);
        if (!made) { Py_CLEAR(list); break; }
        PyList_SET_ITEM(list, i, made);
    }
    return list;
}

static void free_columns(Column *columns, Py_ssize_t count) {
    for (Py_ssize_t i = 0; columns && i < count; i++) {
        Py_XDECREF(columns[i].there);
        Py_XDECREF(columns[i].cells);
        Py_XDECREF(columns[i].data);
    }
    free(columns);
}
