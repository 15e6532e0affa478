#version 330 core
in vec3 in_point;
in vec3 in_normal;
in vec2 in_uv;
in float in_hollow;
in vec4 in_lens;
uniform mat4 clip_from_world;
out vec3 normal;
out vec3 place;
out vec2 uv;
out float hollow;
out vec4 lens;
void main() {
    normal = in_normal;
    place = in_point;
    uv = in_uv;
    hollow = in_hollow;
    lens = in_lens;
    gl_Position = clip_from_world * vec4(in_point, 1.0);
}
