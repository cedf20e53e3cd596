"""The shader programs: lit triangles, sources, lines with soft edges, round dots."""

from __future__ import annotations

from typing import Any

_HEAD = "#version 330\n"

_LAMPS = """
uniform vec3 u_sky; uniform vec3 u_ground; uniform vec3 u_lamp_way; uniform vec3 u_lamp; uniform vec3 u_fill_way; uniform vec3 u_fill;
vec3 from_lamp(vec3 n, vec3 v, vec3 l, vec3 power, vec3 base, float rough, float metal) {
    // Lambert and the microfacets of Walter et al., "Microfacet models for refraction" (2007), with Schlick's Fresnel (1994).
    float nl = dot(n, l);
    if (nl <= 0.0) return vec3(0.0);
    vec3 h = normalize(l + v);
    float nv = max(dot(n, v), 1e-3), nh = max(dot(n, h), 0.0), vh = max(dot(v, h), 0.0);
    float a = rough * rough, aa = a * a;
    float d = aa / max(3.14159265 * pow(nh * nh * (aa - 1.0) + 1.0, 2.0), 1e-6);
    float k = a * 0.5;
    float g = nl * nv / ((nl * (1.0 - k) + k) * (nv * (1.0 - k) + k));
    vec3 f0 = mix(vec3(0.04), base, metal);
    vec3 f = f0 + (1.0 - f0) * pow(1.0 - vh, 5.0);
    return power * nl * ((1.0 - f) * (1.0 - metal) * base + f * d * g / (4.0 * nl * nv));
}
vec3 lit_by_lamps(vec3 n, vec3 v, vec3 base, float open, float rough, float metal) {
    vec3 r = reflect(-v, n);
    vec3 around = mix(u_ground, u_sky, 0.5 + 0.5 * n.y), seen = mix(u_ground, u_sky, smoothstep(-rough - 0.1, rough + 0.1, r.y));
    vec3 f0 = mix(vec3(0.04), base, metal);
    vec3 edge = f0 + (max(vec3(1.0 - rough), f0) - f0) * pow(1.0 - max(dot(n, v), 0.0), 5.0);
    vec3 light = open * (around * base * (1.0 - metal) * 0.8 + seen * edge);
    light += from_lamp(n, v, u_lamp_way, u_lamp, base, rough, metal) + from_lamp(n, v, u_fill_way, u_fill, base, rough, metal);
    light = light / (1.0 + 0.35 * max(light.r, max(light.g, light.b)));
    return mix(light * 12.92, 1.055 * pow(max(light, vec3(1e-5)), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, light));
}
"""

_SKIN_VERTEX = (
    _HEAD
    + """
uniform mat4 u_matrix;
in vec3 in_position; in vec3 in_normal; in vec4 in_tangent; in vec2 in_uv;
out vec3 v_normal; out vec4 v_tangent; out vec2 v_uv; out vec3 v_place;
void main() {
    gl_Position = u_matrix * vec4(in_position, 1.0);
    v_normal = in_normal; v_tangent = in_tangent; v_uv = in_uv; v_place = in_position;
}
"""
)

_SKIN_FRAGMENT = (
    _HEAD
    + _LAMPS
    + """
uniform vec3 u_eye; uniform vec3 u_tint; uniform int u_lit; uniform int u_has; uniform float u_mip;
uniform sampler2D u_colour; uniform sampler2D u_bumps; uniform sampler2D u_surface; uniform sampler2D u_holes;
in vec3 v_normal; in vec4 v_tangent; in vec2 v_uv; in vec3 v_place;
out vec4 f_colour;
vec3 picture(sampler2D from) {
    // The level that distance asks for, or the one that is wanted at least.
    vec2 size = vec2(textureSize(from, 0)); vec2 dx = dFdx(v_uv) * size, dy = dFdy(v_uv) * size;
    float level = 0.5 * log2(max(max(dot(dx, dx), dot(dy, dy)), 1e-12));
    return textureLod(from, v_uv, max(level, u_mip)).rgb;
}
void main() {
    if (u_lit == 0) { f_colour = vec4(picture(u_colour), 1.0); return; }
    if ((u_has & 8) != 0 && picture(u_holes).r < 0.5) discard;
    vec3 base = u_tint, n = v_normal;
    if ((u_has & 1) != 0) {
        vec3 c = picture(u_colour);
        base = mix(c / 12.92, pow((c + 0.055) / 1.055, vec3(2.4)), step(0.04045, c));
    }
    if ((u_has & 2) != 0) {
        // As mikktspace.h prescribes: T, w N x T and N as they come from the corners, not made unit.
        vec3 m = picture(u_bumps) * 2.0 - 1.0;
        n = m.x * v_tangent.xyz + m.y * v_tangent.w * cross(v_normal, v_tangent.xyz) + m.z * v_normal;
    }
    n = normalize(n);
    if (!gl_FrontFacing) n = -n;
    float open = 1.0, rough = 0.8, metal = 0.0;
    if ((u_has & 4) != 0) { vec3 s = picture(u_surface); open = s.r; rough = max(s.g, 0.05); metal = s.b; }
    vec3 colour = lit_by_lamps(n, normalize(u_eye - v_place), base, open, rough, metal);
    if (!gl_FrontFacing) colour = mix(colour, vec3(0.40, 0.25, 0.28), 0.45);
    f_colour = vec4(colour, 1.0);
}
"""
)

_FILL_VERTEX = (
    _HEAD
    + """
uniform mat4 u_matrix; uniform vec3 u_eye; uniform float u_pull; uniform float u_push;
in vec3 in_position; in vec3 in_normal; in vec4 in_colour; in vec2 in_uv; in vec3 in_share;
out vec3 v_normal; out vec4 v_colour; out vec2 v_uv; out vec3 v_view; out vec3 v_share;
void main() {
    // What lies on a surface lies as far off along the ray as its gap divided by how much the surface faces the eye.
    vec3 place = in_position + in_normal * u_push;
    vec3 away = u_eye - place; vec3 ray = normalize(away);
    float slant = clamp(abs(dot(in_normal, ray)), 0.12, 1.0);
    gl_Position = u_matrix * vec4(place + ray * (u_push > 0.0 ? u_pull / slant : u_pull), 1.0);
    v_normal = in_normal; v_colour = in_colour; v_uv = in_uv; v_view = away; v_share = in_share;
}
"""
)

_FILL_FRAGMENT = (
    _HEAD
    + """
uniform float u_lit; uniform vec3 u_checker; uniform vec2 u_board; uniform sampler2D u_pixels; uniform vec3 u_key; uniform vec3 u_side; uniform vec4 u_wire;
in vec3 v_normal; in vec4 v_colour; in vec2 v_uv; in vec3 v_view; in vec3 v_share;
out vec4 f_colour;
void main() {
    vec3 colour = v_colour.rgb;
    if (u_checker.x > 0.0 && v_uv.x > -1e5) {
        if (u_board.x > 0.0) {
            // Derivatives of the whole: a fraction jumps where the next sheet begins.
            vec3 there = textureGrad(u_pixels, fract(v_uv), dFdx(v_uv), dFdy(v_uv)).rgb * u_board.y;
            colour = mix(colour, min(there, vec3(1.0)), u_board.x);
        } else {
            vec2 cell = floor(v_uv * u_checker.xy);
            float odd = mod(cell.x + cell.y, 2.0);
            if (u_checker.z > 0.0) {
                vec2 tile = floor(v_uv);
                float turn = fract(0.11 + 0.6180339887 * (tile.x + 10.0 * tile.y)) * 6.0;
                colour = 0.45 + 0.40 * clamp(abs(mod(turn + vec3(0.0, 4.0, 2.0), 6.0) - 3.0) - 1.0, 0.0, 1.0);
            }
            colour = mix(colour * 0.62, mix(colour, vec3(1.0), 0.55), odd);
        }
    }
    if (u_lit > 0.0) {
        vec3 n = normalize(v_normal); vec3 view = normalize(v_view);
        if (!gl_FrontFacing) n = -n;
        float key = 0.5 + 0.5 * dot(n, u_key);
        float side = 0.5 + 0.5 * dot(n, u_side);
        float facing = max(dot(n, view), 0.0);
        float light = 0.30 + 0.62 * key * key + 0.14 * side + 0.06 * facing;
        float edge = pow(1.0 - facing, 3.0);
        colour = colour * light * (1.0 - 0.25 * edge);
        if (!gl_FrontFacing) colour = mix(colour, vec3(0.40, 0.25, 0.28), 0.45);
    }
    float alpha = v_colour.a;
    if (u_wire.a > 0.0) {
        vec3 px = v_share / max(fwidth(v_share), vec3(1e-6));
        float near = min(px.x, min(px.y, px.z));
        // Seen edge-on wires would run into one another: they thin out there.
        float facing = u_lit > 0.0 ? abs(dot(normalize(v_normal), normalize(v_view))) : 1.0;
        float thin = smoothstep(0.06, 0.42, facing);
        float ink = u_wire.a * mix(0.12, 1.0, thin) * clamp(mix(0.6, 1.1, thin) - near, 0.0, 1.0);
        colour = mix(colour, u_wire.rgb, ink);
        alpha = max(alpha, ink);
    }
    f_colour = vec4(colour, alpha);
}
"""
)

_SURFACE_VERTEX = (
    _HEAD
    + """
uniform mat4 u_matrix; uniform vec3 u_eye;
in vec3 in_position; in vec4 in_packed; in vec4 in_tint; in vec2 in_uv;
out vec3 v_normal; out vec3 v_place; out vec3 v_tint; out vec2 v_uv; out float v_raised;
void main() {
    gl_Position = u_matrix * vec4(in_position, 1.0);
    v_normal = in_packed.xyz * 2.0 - 1.0; v_place = in_position; v_tint = in_tint.rgb; v_uv = in_uv;
    v_raised = in_packed.w * 2.0 - 1.0;
}
"""
)

_SURFACE_FRAGMENT = (
    _HEAD
    + _LAMPS
    + """
uniform vec3 u_eye; uniform vec3 u_key; uniform vec3 u_side; uniform vec3 u_colour; uniform vec4 u_cut;
uniform int u_shade; uniform sampler2D u_picture;
in vec3 v_normal; in vec3 v_place; in vec3 v_tint; in vec2 v_uv; in float v_raised;
out vec4 f_colour;
void main() {
    if (dot(v_place, u_cut.xyz) > u_cut.w && dot(u_cut.xyz, u_cut.xyz) > 0.0) discard;
    vec3 view = normalize(u_eye - v_place);
    vec3 n = u_shade == 1 ? normalize(cross(dFdx(v_place), dFdy(v_place))) : normalize(v_normal);
    if (u_shade == 1) { if (dot(n, view) < 0.0) n = -n; }
    else if (!gl_FrontFacing) n = -n;
    vec3 colour = u_shade == 3 || u_shade == 5 ? v_tint : u_shade == 4 ? texture(u_picture, v_uv).rgb : u_colour;
    if (u_shade == 6) { f_colour = vec4(lit_by_lamps(n, view, u_colour, 1.0, 0.8, 0.0), 1.0); return; }
    float key = 0.5 + 0.5 * dot(n, u_key);
    float side = 0.5 + 0.5 * dot(n, u_side);
    float facing = max(dot(n, view), 0.0);
    if (u_shade == 2) {
        float hollow = clamp(-v_raised, 0.0, 1.0); float raised = clamp(v_raised, 0.0, 1.0);
        colour = mix(colour, vec3(0.30, 0.22, 0.20), 0.75 * hollow);
        colour = mix(colour, vec3(1.0, 0.98, 0.94), 0.45 * raised);
        colour *= 0.42 + 0.58 * key;
    } else if (u_shade >= 3) {
        colour *= 0.55 + 0.45 * key * key + 0.08 * side;
    } else {
        float light = 0.30 + 0.62 * key * key + 0.14 * side + 0.06 * facing;
        colour = colour * light * (1.0 - 0.25 * pow(1.0 - facing, 3.0));
    }
    if (!gl_FrontFacing) colour = mix(colour, vec3(0.40, 0.25, 0.28), 0.45);
    f_colour = vec4(colour, 1.0);
}
"""
)

_LINE_VERTEX = (
    _HEAD
    + """
uniform mat4 u_matrix; uniform vec3 u_eye; uniform float u_pull; uniform vec2 u_size;
in vec2 in_corner; in vec3 in_from; in vec3 in_to; in vec4 in_colour; in float in_width;
out vec4 v_colour; out float v_across; out float v_along; out float v_width; flat out float v_length;
void main() {
    vec4 a = u_matrix * vec4(in_from + normalize(u_eye - in_from) * u_pull, 1.0);
    vec4 b = u_matrix * vec4(in_to + normalize(u_eye - in_to) * u_pull, 1.0);
    vec2 pa = a.xy / a.w * u_size * 0.5; vec2 pb = b.xy / b.w * u_size * 0.5;
    vec2 way = pb - pa; float len = length(way);
    way = len > 1e-6 ? way / len : vec2(1.0, 0.0);
    vec2 side = vec2(-way.y, way.x);
    float half_width = in_width * 0.5 + 1.0;
    vec4 end = in_corner.x < 0.5 ? a : b;
    vec2 shift = side * (in_corner.y * 2.0 - 1.0) * half_width + way * (in_corner.x * 2.0 - 1.0) * 0.5;
    gl_Position = end + vec4(shift * 2.0 / u_size * end.w, 0.0, 0.0);
    v_colour = in_colour; v_across = (in_corner.y * 2.0 - 1.0) * half_width;
    v_along = in_corner.x * len; v_width = in_width; v_length = len;
}
"""
)

_LINE_FRAGMENT = (
    _HEAD
    + """
uniform float u_stitch;
in vec4 v_colour; in float v_across; in float v_along; in float v_width; flat in float v_length;
out vec4 f_colour;
void main() {
    float soft = clamp(v_width * 0.5 + 0.5 - abs(v_across), 0.0, 1.0);
    if (u_stitch > 0.0) {
        float count = max(1.0, floor(v_length / u_stitch + 0.5));
        float phase = fract(v_along / max(v_length, 1e-3) * count);
        float px = v_length / count;
        float from = abs(phase - 0.5) * px;
        soft *= clamp(0.32 * px - from + 0.5, 0.0, 1.0);
    }
    if (soft <= 0.0) discard;
    f_colour = vec4(v_colour.rgb, v_colour.a * soft);
}
"""
)

_DOT_VERTEX = (
    _HEAD
    + """
uniform mat4 u_matrix; uniform vec3 u_eye; uniform float u_pull; uniform vec2 u_size;
in vec2 in_corner; in vec3 in_position; in vec4 in_colour; in float in_size;
out vec4 v_colour; out vec2 v_place; out float v_radius;
void main() {
    vec4 at = u_matrix * vec4(in_position + normalize(u_eye - in_position) * u_pull, 1.0);
    float radius = in_size * 0.5 + 1.0;
    vec2 place = (in_corner * 2.0 - 1.0) * radius;
    gl_Position = at + vec4(place * 2.0 / u_size * at.w, 0.0, 0.0);
    v_colour = in_colour; v_place = place; v_radius = in_size * 0.5;
}
"""
)

_DOT_FRAGMENT = (
    _HEAD
    + """
in vec4 v_colour; in vec2 v_place; in float v_radius;
out vec4 f_colour;
void main() {
    float soft = clamp(v_radius + 0.5 - length(v_place), 0.0, 1.0);
    if (soft <= 0.0) discard;
    f_colour = vec4(v_colour.rgb, v_colour.a * soft);
}
"""
)

_COPY_VERTEX = (
    _HEAD
    + """
in vec2 in_corner; out vec2 v_uv;
void main() { v_uv = in_corner; gl_Position = vec4(in_corner * 2.0 - 1.0, 0.0, 1.0); }
"""
)

_COPY_FRAGMENT = (
    _HEAD
    + """
uniform sampler2D u_picture; in vec2 v_uv; out vec4 f_colour;
void main() { f_colour = vec4(texture(u_picture, v_uv).rgb, 1.0); }
"""
)


class Programs:
    """Compiled once a context."""

    def __init__(self, context: Any) -> None:
        self.fill = context.program(vertex_shader=_FILL_VERTEX, fragment_shader=_FILL_FRAGMENT)
        self.surface = context.program(vertex_shader=_SURFACE_VERTEX, fragment_shader=_SURFACE_FRAGMENT)
        self.skin = context.program(vertex_shader=_SKIN_VERTEX, fragment_shader=_SKIN_FRAGMENT)
        self.line = context.program(vertex_shader=_LINE_VERTEX, fragment_shader=_LINE_FRAGMENT)
        self.dot = context.program(vertex_shader=_DOT_VERTEX, fragment_shader=_DOT_FRAGMENT)
        self.copy = context.program(vertex_shader=_COPY_VERTEX, fragment_shader=_COPY_FRAGMENT)


def put(program: Any, name: str, value: Any) -> None:
    """Set a uniform where the program kept it; compilers drop those that are not used."""
    if name in program:
        member = program[name]
        if isinstance(value, bytes):
            member.write(value)
        else:
            member.value = value
