// A piece of a fibre as a ribbon that faces the eye, narrower towards the tip.
layout(lines) in;
layout(triangle_strip, max_vertices = 4) out;
uniform vec2 half_size;      // of the picture, in pixels
uniform float wide;          // pixels at the root
in vec3 along[];
in vec3 normal[];
in vec4 tint[];
out vec3 along_;
out vec3 normal_;
out vec4 tint_;

void main() {
    if (gl_in[0].gl_Position.w <= 0.0 || gl_in[1].gl_Position.w <= 0.0) return;
    vec2 a = gl_in[0].gl_Position.xy / gl_in[0].gl_Position.w * half_size;
    vec2 b = gl_in[1].gl_Position.xy / gl_in[1].gl_Position.w * half_size;
    vec2 way = b - a;
    float far = length(way);
    if (far < 1e-4) return;
    vec2 side = vec2(-way.y, way.x) / far / half_size;
    for (int i = 0; i < 2; ++i) {
        float half_wide = 0.5 * max(wide * (1.0 - 0.75 * tint[i].a), 0.7);
        vec4 at = gl_in[i].gl_Position;
        for (int k = -1; k <= 1; k += 2) {
            gl_Position = at + vec4(side * half_wide * float(k) * at.w, 0.0, 0.0);
            along_ = along[i];
            normal_ = normal[i];
            tint_ = tint[i];
            EmitVertex();
        }
    }
    EndPrimitive();
}
