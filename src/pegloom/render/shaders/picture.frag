#version 330 core
in vec2 uv;
uniform sampler2D picture;
uniform float alpha;
out vec4 colour;
void main() {
    vec4 c = texture(picture, uv);
    colour = vec4(c.rgb, c.a * alpha);
}
