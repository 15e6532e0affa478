#version 330 core
in vec2 in_corner;
in vec3 in_point;
in vec4 in_colour;
in float in_radius;
in float in_hollow;
uniform mat4 clip_from_world;
uniform vec2 stage;
out vec2 from_middle;
out vec4 tint;
flat out float radius;
flat out float hollow;
void main() {
    vec4 here = clip_from_world * vec4(in_point, 1.0);
    from_middle = in_corner * (in_radius + 1.5);
    here.xy += from_middle / (stage * 0.5) * here.w;
    tint = in_colour;
    radius = in_radius;
    hollow = in_hollow;
    gl_Position = here;
}
