/* Gives plain arrays to the published code and takes its tangents back: triangles only. */
#include "mikktspace.h"

typedef struct { const float *p, *n, *t; float *out; int faces; } Arrays;
static int faces(const SMikkTSpaceContext *c) { return ((Arrays *)c->m_pUserData)->faces; }
static int three(const SMikkTSpaceContext *c, const int f) { (void)c; (void)f; return 3; }
static void get(float *out, const float *from, int at, int size) { for (int k = 0; k < size; k++) out[k] = from[at * size + k]; }
static void place(const SMikkTSpaceContext *c, float o[], const int f, const int v) { get(o, ((Arrays *)c->m_pUserData)->p, 3 * f + v, 3); }
static void normal(const SMikkTSpaceContext *c, float o[], const int f, const int v) { get(o, ((Arrays *)c->m_pUserData)->n, 3 * f + v, 3); }
static void mapped(const SMikkTSpaceContext *c, float o[], const int f, const int v) { get(o, ((Arrays *)c->m_pUserData)->t, 3 * f + v, 2); }
static void take(const SMikkTSpaceContext *c, const float t[], const float sign, const int f, const int v) {
    float *out = ((Arrays *)c->m_pUserData)->out + 4 * (3 * f + v);
    out[0] = t[0]; out[1] = t[1]; out[2] = t[2]; out[3] = sign;
}

int tangents(const float *p, const float *n, const float *t, float *out, int count) {
    Arrays arrays = {p, n, t, out, count};
    SMikkTSpaceInterface calls = {faces, three, place, normal, mapped, take, 0};
    SMikkTSpaceContext context = {&calls, &arrays};
    return genTangSpaceDefault(&context);
}
