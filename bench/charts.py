"""A chart of 400 elements by the chart kit, against the same picture drawn by loops of a template."""

import statistics

from common import say, seconds, set_up

RUNGS = 100  # four elements each: rung, label, whisker, bead
TEMPLATE = """{% for r in rungs %}<path class="rung" d="M104 {{ r.y|floatformat:2 }}L640 {{ r.y|floatformat:2 }}"/>
<text class="level" x="92" y="{{ r.y|floatformat:2 }}" text-anchor="end">{{ r.label }}</text>
<g class="mark" tabindex="0" role="img" aria-label="{{ r.label }}: {{ r.error|floatformat:1 }}"><title>{{ r.label }}: {{ r.error|floatformat:1 }}</title>
<path class="whisker" d="M{{ r.x1|floatformat:2 }} {{ r.y|floatformat:2 }}L{{ r.x2|floatformat:2 }} {{ r.y|floatformat:2 }}"/>
<circle class="bead" cx="{{ r.x|floatformat:2 }}" cy="{{ r.y|floatformat:2 }}" r="6.5" fill="{{ r.colour }}"/></g>
<text class="{% if r.error > 1 %}figure loud{% else %}figure{% endif %}" x="704" y="{{ r.y|floatformat:2 }}">{{ r.error|floatformat:1 }}</text>
{% endfor %}"""


def main() -> None:
    set_up()
    from django.template import engines

    from fenvik.charts import error

    rungs = [error.Rung(f"patch {i}", "#8899aa", i / 30, i / 32, i / 28) for i in range(RUNGS)]
    rows = [
        {
            "label": r.label,
            "colour": r.colour,
            "error": r.error,
            "y": 44 + 30 * i,
            "x": 104 + 80 * (r.error or 0),
            "x1": 104.0,
            "x2": 300.0,
        }
        for i, r in enumerate(rungs)
    ]
    template = engines["django"].from_string(TEMPLATE)
    kit = statistics.median(seconds(lambda: error.draw(rungs, title="Error by patch"), 30))
    loops = statistics.median(seconds(lambda: template.render({"rungs": rows}), 30))
    say("a chart of 400 elements, chart kit", 1000 * kit, "ms")
    say("ratio: chart kit / template loops", kit / loops, "", "0.6 or less is wanted")


if __name__ == "__main__":
    main()
