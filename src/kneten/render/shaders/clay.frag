// What a part is at each pixel: direction, colour, whose it is, which side.
uniform float mark;   // 1 an ordinary part, 2 the part in hand
in vec3 eye_normal;
in vec3 albedo;
layout(location = 0) out vec4 out_normal;
layout(location = 1) out vec4 out_albedo;
void main() {
    vec3 n = normalize(eye_normal);
    // Clay seen from its inside shows a darker, turned-round surface.
    if (!gl_FrontFacing) n = -n;
    out_normal = vec4(n, mark);
    out_albedo = vec4(gl_FrontFacing ? albedo : albedo * 0.55, gl_FrontFacing ? 1.0 : 0.0);
}
