/* What texts in the cells of a table are: none, one document of JSON by itself, XML, or something else.

   A document of JSON stands in a record as it is, and whatever reads that record finds what is wrong inside of it. So
   here only this counts: that it cannot become more than its place, which is so where its texts end, its brackets close
   at its end and not before, and no comma or colon stands outside of them. */

#ifdef __SSE2__
#include <emmintrin.h>
#endif

enum { CELL_NOTHING, CELL_WHOLE, CELL_IN_LINES, CELL_XML, CELL_OTHER };

static int is_cell_space(uint8_t c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; }

/* Where a text in quotes may end: at a quote, a backslash, or a line break, which cannot be in one. */
static const uint8_t *within_quotes(const uint8_t *s, const uint8_t *end) {
#ifdef __SSE2__
    const __m128i quote = _mm_set1_epi8('"'), slash = _mm_set1_epi8('\\'), line = _mm_set1_epi8('\n'), back = _mm_set1_epi8('\r');
    while (end - s >= 16) {
        __m128i here = _mm_loadu_si128((const __m128i *)s);
        __m128i found = _mm_or_si128(_mm_or_si128(_mm_cmpeq_epi8(here, quote), _mm_cmpeq_epi8(here, slash)),
                                     _mm_or_si128(_mm_cmpeq_epi8(here, line), _mm_cmpeq_epi8(here, back)));
        int bits = _mm_movemask_epi8(found);
        if (bits) return s + __builtin_ctz(bits);
        s += 16;
    }
#endif
    while (s < end && *s != '"' && *s != '\\' && *s != '\n' && *s != '\r') s++;
    return s;
}

static uint8_t sort_of_cell(const uint8_t *s, const uint8_t *end) {
    int has_breaks = 0;
    while (s < end && is_cell_space(*s)) { has_breaks |= *s == '\n' || *s == '\r'; s++; }
    if (s == end) return CELL_NOTHING;
    if (*s == '<') return CELL_XML;
    while (is_cell_space(end[-1])) { has_breaks |= end[-1] == '\n' || end[-1] == '\r'; end--; }
    long long depth = 0;
    const uint8_t *begin = s;
    while (s < end) {
        uint8_t c = *s++;
        /* Most of what stands between texts is a comma or colon inside of brackets, or a digit. */
        if (c == '"') {
            if (depth == 0 && s - 1 != begin) return CELL_OTHER;
            for (;;) {
                s = within_quotes(s, end);
                if (s >= end || *s == '\n' || *s == '\r') return CELL_OTHER;
                if (*s++ == '"') break;
                if (s >= end || *s == '\n' || *s == '\r') return CELL_OTHER;
                s++;
            }
            if (depth == 0) return s == end ? (has_breaks ? CELL_IN_LINES : CELL_WHOLE) : CELL_OTHER;
            continue;
        }
        if (depth > 0 && c < '[' && c != '\n' && c != '\r') continue;
        if (c == '{' || c == '[') {
            if (depth == 0 && s - 1 != begin) return CELL_OTHER;
            depth++;
        } else if (c == '}' || c == ']') {
            if (--depth < 0) return CELL_OTHER;
            if (depth == 0) return s == end ? (has_breaks ? CELL_IN_LINES : CELL_WHOLE) : CELL_OTHER;
        } else if (c == '\n' || c == '\r') {
            if (depth == 0) return CELL_OTHER;
            has_breaks = 1;
        } else if (depth == 0 && (c == ',' || c == ':' || c == ' ' || c == '\t')) {
            return CELL_OTHER;
        }
    }
    return depth == 0 ? (has_breaks ? CELL_IN_LINES : CELL_WHOLE) : CELL_OTHER;
}

static PyObject *py_cells(PyObject *self, PyObject *args) {
    Py_buffer data, ends;
    if (!PyArg_ParseTuple(args, "y*y*", &data, &ends)) return NULL;
    Py_ssize_t count = ends.len / 8 - 1;
    const int64_t *offsets = ends.buf;
    if (count < 0 || (count > 0 && (offsets[0] < 0 || offsets[count] > data.len))) {
        PyBuffer_Release(&data); PyBuffer_Release(&ends);
        PyErr_SetString(PyExc_ValueError, "offsets beyond the texts");
        return NULL;
    }
    PyObject *made = PyBytes_FromStringAndSize(NULL, count);
    if (made != NULL) {
        uint8_t *sorts = (uint8_t *)PyBytes_AS_STRING(made);
        const uint8_t *text = data.buf;
        Py_BEGIN_ALLOW_THREADS
        for (Py_ssize_t i = 0; i < count; i++) sorts[i] = sort_of_cell(text + offsets[i], text + offsets[i + 1]);
        Py_END_ALLOW_THREADS
    }
    PyBuffer_Release(&data); PyBuffer_Release(&ends);
    return made;
}
