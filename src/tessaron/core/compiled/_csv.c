/* Rows of CSV (RFC 4180) out of the buffers of Arrow columns; see csv_rows.py.
 *
 * A column is integers, or moments, or texts of which either all are put into quotes, or none as none needs them. Null is
 * an empty field. Every offset is checked against its buffer before it is followed.
 */
#include "_tape.h"

/* Of moments the kind also says how many digits of the second there are, and whether `Z` stands behind. */
enum { C_INTEGERS, C_PLAIN, C_QUOTED, C_MOMENTS, C_TYPE = 15, C_DIGITS = 4, C_ZONE = 256 };

typedef struct {
    int kind;
    Py_ssize_t offset;               /* of the first value, in values */
    Py_buffer valid, values, data;   /* bits or none; integers, or offsets of texts; the bytes of texts */
    int has_valid, has_data;
} Column;

static inline int is_null(const Column *c, Py_ssize_t row) {
    Py_ssize_t at = row + c->offset;
    return c->has_valid && !(((const uint8_t *)c->valid.buf)[at >> 3] >> (at & 7) & 1);
}

static int put_integer(Buffer *out, int64_t value) {
    char digits[24], *at = digits + sizeof digits;
    uint64_t left = value < 0 ? 0 - (uint64_t)value : (uint64_t)value;
    do { *--at = (char)('0' + left % 10); left /= 10; } while (left);
    if (value < 0) *--at = '-';
    return put_bytes(out, at, (size_t)(digits + sizeof digits - at));
}

static int put_quoted(Buffer *out, const char *text, size_t size) {
    if (put_u8(out, '"')) return NO_MEMORY;
    const char *end = text + size;
    for (;;) {
        const char *quote = size ? memchr(text, '"', (size_t)(end - text)) : NULL;
        if (!quote) break;
        if (put_bytes(out, text, (size_t)(quote - text + 1)) || put_u8(out, '"')) return NO_MEMORY;
        text = quote + 1;
        if (text == end) break;
    }
    return put_bytes(out, text, (size_t)(end - text)) || put_u8(out, '"') ? NO_MEMORY : OK;
}

static char *put_digits(char *at, int64_t value, int count) {
    for (int i = count - 1; i >= 0; i--, value /= 10) at[i] = (char)('0' + value % 10);
    return at + count;
}

/* Puts a moment as `2026-01-31 05:00:00.000Z`; its year has four digits. The date is found as by Howard Hinnant
 * ("chrono-Compatible Low-Level Date Algorithms"): years begin in March, and 400 of them have 146,097 days. */
static int put_moment(Buffer *out, int64_t value, int digits, int has_zone) {
    int64_t unit = 1;
    for (int i = 0; i < digits; i++) unit *= 10;
    int64_t day_units = 86400 * unit, days = value / day_units - (value % day_units < 0);
    int64_t rest = value - days * day_units, seconds = rest / unit;
    int64_t shifted = days + 719468, era = shifted / 146097 - (shifted % 146097 < 0);
    int64_t day = shifted - era * 146097;
    int64_t year = (day - day / 1460 + day / 36524 - day / 146096) / 365;
    int64_t of_year = day - (365 * year + year / 4 - year / 100);
    int64_t month = (5 * of_year + 2) / 153;
    char text[40], *at = text;
    at = put_digits(at, year + era * 400 + (month >= 10), 4);
    *at++ = '-';
    at = put_digits(at, month + (month < 10 ? 3 : -9), 2);
    *at++ = '-';
    at = put_digits(at, of_year - (153 * month + 2) / 5 + 1, 2);
    *at++ = ' ';
    at = put_digits(at, seconds / 3600, 2);
    *at++ = ':';
    at = put_digits(at, seconds / 60 % 60, 2);
    *at++ = ':';
    at = put_digits(at, seconds % 60, 2);
    if (digits) {
        *at++ = '.';
        at = put_digits(at, rest % unit, digits);
    }
    if (has_zone) *at++ = 'Z';
    return put_bytes(out, text, (size_t)(at - text));
}

static int put_field(Buffer *out, const Column *c, Py_ssize_t row) {
    if (is_null(c, row)) return OK;
    const int64_t *values = (const int64_t *)c->values.buf + c->offset + row;
    if (c->kind == C_INTEGERS) return put_integer(out, *values);
    if ((c->kind & C_TYPE) == C_MOMENTS) return put_moment(out, *values, c->kind >> C_DIGITS & C_TYPE, !!(c->kind & C_ZONE));
    int64_t start = values[0], stop = values[1];
    if (start < 0 || stop < start || stop > (c->has_data ? c->data.len : 0)) return BAD;
    const char *text = c->has_data ? (const char *)c->data.buf + start : "";
    if (c->kind == C_QUOTED) return put_quoted(out, text, (size_t)(stop - start));
    return put_bytes(out, text, (size_t)(stop - start));
}

static int put_rows(Buffer *out, const Column *columns, Py_ssize_t count, Py_ssize_t rows) {
    for (Py_ssize_t row = 0; row < rows; row++) {
        for (Py_ssize_t i = 0; i < count; i++) {
            if (i && put_u8(out, ',')) return NO_MEMORY;
            int status = put_field(out, &columns[i], row);
            if (status) return status;
        }
        if (put_bytes(out, "\r\n", 2)) return NO_MEMORY;
    }
    return OK;
}

/* Looks at a column: (kind, offset, valid or None, values, data or None); -1 if it has not so many rows. */
static int view_column(PyObject *tuple, Py_ssize_t rows, Column *c) {
    PyObject *valid, *values, *data;
    if (!PyArg_ParseTuple(tuple, "inOOO", &c->kind, &c->offset, &valid, &values, &data)) return -1;
    int digits = c->kind >> C_DIGITS & C_TYPE, has_texts = c->kind == C_PLAIN || c->kind == C_QUOTED;
    if (c->kind < 0 || (c->kind & C_TYPE) > C_MOMENTS || digits > 9) goto unfit;
    if (c->offset < 0 || rows > PY_SSIZE_T_MAX - c->offset - 8) goto unfit;
    if (PyObject_GetBuffer(values, &c->values, PyBUF_SIMPLE)) return -1;
    if (valid != Py_None) {
        if (PyObject_GetBuffer(valid, &c->valid, PyBUF_SIMPLE)) return -1;
        c->has_valid = 1;
        if (c->valid.len < (c->offset + rows + 7) / 8) goto unfit;
    }
    if (data != Py_None) {
        if (PyObject_GetBuffer(data, &c->data, PyBUF_SIMPLE)) return -1;
        c->has_data = 1;
    }
    if (c->values.len / 8 >= c->offset + rows + has_texts) return 0;
unfit:
    PyErr_SetString(PyExc_ValueError, "a column has too few values");
    return -1;
}

/* rows(columns, count): so many rows as bytes. */
static PyObject *py_rows(PyObject *self, PyObject *args) {
    PyObject *list, *made = NULL;
    Py_ssize_t rows, seen = 0;
    (void)self;
    if (!PyArg_ParseTuple(args, "O!n", &PyList_Type, &list, &rows)) return NULL;
    Py_ssize_t count = PyList_GET_SIZE(list);
    Column *columns = calloc((size_t)count + 1, sizeof(Column));
    Buffer out = {0};
    if (!columns) return PyErr_NoMemory();
    while (seen < count) {
        Column *c = &columns[seen++];
        if (view_column(PyList_GET_ITEM(list, seen - 1), rows, c)) goto done;
    }
    int status;
    Py_BEGIN_ALLOW_THREADS
    status = put_rows(&out, columns, count, rows);
    Py_END_ALLOW_THREADS
    if (status == BAD) PyErr_SetString(PyExc_ValueError, "a text lies outside of its column");
    else made = status ? PyErr_NoMemory() : bytes_of(&out);
done:
    for (Py_ssize_t i = 0; i < seen; i++) {
        PyBuffer_Release(&columns[i].values);
        PyBuffer_Release(&columns[i].valid);
        PyBuffer_Release(&columns[i].data);
    }
    free(columns);
    free(out.at);
    return made;
}

static PyMethodDef methods[] = {
    {"rows", py_rows, METH_VARARGS, "Return rows of CSV."},
    {NULL, NULL, 0, NULL}};

static struct PyModuleDef module = {
    .m_base = PyModuleDef_HEAD_INIT, .m_name = "_csv", .m_doc = "Rows of CSV.", .m_size = 0, .m_methods = methods};

PyMODINIT_FUNC PyInit__csv(void) { return PyModule_Create(&module); }
