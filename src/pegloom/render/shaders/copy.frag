#version 330 core
in vec2 uv;
uniform sampler2D picture;
uniform float share;
out vec4 colour;
void main() {
    colour = vec4(texture(picture, uv).rgb, share);
}
