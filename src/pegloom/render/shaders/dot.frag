#version 330 core
in vec2 from_middle;
in vec4 tint;
flat in float radius;
flat in float hollow;
out vec4 colour;
void main() {
    float d = length(from_middle);
    float disc = 1.0 - smoothstep(radius - 0.7, radius + 0.7, d);
    if (hollow > 1.5) {
        colour = vec4(tint.rgb, tint.a * pow(max(1.0 - d / radius, 0.0), 1.4));
    } else if (hollow > 0.5) {
        float ring = smoothstep(radius - 2.6, radius - 1.2, d);
        float core = 1.0 - smoothstep(radius * 0.3, radius * 0.3 + 1.2, d);
        vec3 dark = vec3(0.08, 0.09, 0.12);
        vec3 mixed = mix(dark, tint.rgb, max(ring, core));
        colour = vec4(mixed, tint.a * disc);
    } else {
        float edge = smoothstep(radius - 2.0, radius - 0.8, d);
        colour = vec4(mix(tint.rgb, vec3(0.08, 0.09, 0.12), edge * 0.75), tint.a * disc);
    }
}
