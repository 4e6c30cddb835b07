// What a part is at each pixel: direction, colour, whose it is, which side.
// CLEAR: 0 all of it hides what is behind, 1 only where that is so, 2 only what is seen through, before what `behind` has.
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
#if CLEAR
in float hides;
#endif
#if CLEAR == 2
uniform sampler2D behind;
#endif
#if MATERIAL
layout(location = 2) out vec4 out_material;  // roughness, metalness, subsurface, wet
#endif
void main() {
#if CLEAR == 1
    if (hides < 0.996) discard;
#elif CLEAR == 2
    if (hides >= 0.996 || gl_FragCoord.z >= texelFetch(behind, ivec2(gl_FragCoord.xy), 0).r) discard;
#endif
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
#if CLEAR == 2
    out_albedo = vec4(clay, hides);
#else
    out_albedo = vec4(gl_FrontFacing ? clay : clay * 0.55, gl_FrontFacing ? 1.0 : 0.0);
#endif
}
