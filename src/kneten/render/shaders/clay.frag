// What a part is at each pixel: direction, colour, whose it is, which side.
uniform float mark;   // 1 an ordinary part, 2 the part in hand
in vec3 eye_normal;
in vec3 albedo;
in float masked;
uniform float hatch;  // pixels from one line of the mask's hatch to the next
layout(location = 0) out vec4 out_normal;
layout(location = 1) out vec4 out_albedo;
#if MATERIAL == 1
in vec4 made_of;
#elif MATERIAL == 2
uniform vec4 material_of_all;
#endif
#if MATERIAL
layout(location = 2) out vec4 out_material;  // roughness, metalness, subsurface, wet
#endif
void main() {
    vec3 n = normalize(eye_normal);
    // Clay seen from its inside shows a darker, turned-round surface.
    if (!gl_FrontFacing) n = -n;
#if GRAINS
    n = grained(n);
#endif
    out_normal = vec4(n, mark);
    vec3 clay = albedo;
    if (masked > 0.02) {
        // Diagonal celadon over the form's own shading, so that the form stays readable.
        float line = fract((gl_FragCoord.x + gl_FragCoord.y) / hatch);
        float ink = smoothstep(0.06, 0.16, line) * (1.0 - smoothstep(0.44, 0.54, line));
        clay = mix(clay, vec3(0.34, 0.58, 0.49), masked * (0.22 + 0.58 * ink));
    }
#if MATERIAL == 1
    out_material = made_of;
#elif MATERIAL == 2
    out_material = material_of_all;
#endif
    out_albedo = vec4(gl_FrontFacing ? clay : clay * 0.55, gl_FrontFacing ? 1.0 : 0.0);
}
