#version 330 core
in vec2 in_corner;       // x: 0 start, 1 end; y: -1 or 1
in vec3 in_start;
in vec3 in_end;
in vec4 in_colour;
in float in_width;
uniform mat4 clip_from_world;
uniform vec2 stage;
out vec4 tint;
out float across;
out float half_width;
void main() {
    vec4 a = clip_from_world * vec4(in_start, 1.0);
    vec4 b = clip_from_world * vec4(in_end, 1.0);
    float near = 1e-4;
    if (a.w < near) a = mix(a, b, (near - a.w) / max(b.w - a.w, 1e-9));
    if (b.w < near) b = mix(b, a, (near - b.w) / max(a.w - b.w, 1e-9));
    vec2 pa = a.xy / a.w * stage * 0.5;
    vec2 pb = b.xy / b.w * stage * 0.5;
    vec2 along = pb - pa;
    float size = length(along);
    along = size > 1e-5 ? along / size : vec2(1.0, 0.0);
    half_width = in_width * 0.5;
    float reach = half_width + 1.0;
    vec4 here = mix(a, b, in_corner.x);
    vec2 offset = vec2(-along.y, along.x) * in_corner.y * reach + along * (in_corner.x * 2.0 - 1.0) * half_width * 0.5;
    here.xy += offset / (stage * 0.5) * here.w;
    across = in_corner.y * reach;
    tint = in_colour;
    gl_Position = here;
}
