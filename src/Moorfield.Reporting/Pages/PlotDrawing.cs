namespace Moorfield.Reporting.Pages;

/// <summary>Draws plots as SVG, with their title and values in words for whoever does not see them.</summary>
internal static class PlotDrawing
{
    private const int Width = 720, Height = 240, Left = 60, Right = 150, Top = 16, Bottom = 32;
    private const int MaxLabels = 12;
    private static readonly string[] Dashes = ["", "7 3", "2 3", "9 3 2 3"];

    internal static void Write(HtmlText html, Plot plot)
    {
        double most = Math.Max(1, plot.Series.SelectMany(s => s.Values).DefaultIfEmpty(0).Max());
        double Y(double value) => Height - Bottom - (value / most * (Height - Top - Bottom));
        html.Raw("<figure><figcaption>"u8).Text(plot.Title).Raw("</figcaption>\n<svg role=\"img\" viewBox=\"0 0 "u8).Number(Width).Raw(" "u8)
            .Number(Height).Raw("\"><title>"u8).Text(plot.Title).Raw("</title><desc>"u8).Text(Words(plot)).Raw("</desc>\n"u8);
        foreach (double value in new[] { 0, most / 2, most })
        {
            html.Raw("<line class=\"grid\" x1=\""u8).Number(Left).Raw("\" x2=\""u8).Number(Width - Right).Raw("\" y1=\""u8).Number(Y(value))
                .Raw("\" y2=\""u8).Number(Y(value)).Raw("\"/>"u8);
            Label(html, Left - 8, Y(value) + 4, value.ToString("0.#", CultureInfo.InvariantCulture), "end"u8);
        }
        html.Raw("\n"u8);
        double step = (double)(Width - Left - Right) / plot.Labels.Length;
        int each = (plot.Labels.Length + MaxLabels - 1) / MaxLabels;
        for (int i = 0; i < plot.Labels.Length; i += each)
            Label(html, Left + ((i + 0.5) * step), Height - 10, plot.Labels[i], "middle"u8);
        html.Raw("\n"u8);
        Lines(html, plot, step, Y);
        html.Raw("</svg></figure>\n"u8);
    }

    private static void Lines(HtmlText html, Plot plot, double step, Func<double, double> y)
    {
        // Names stand at the ends of their lines, and below each other where these end together.
        var ends = new List<double>();
        foreach (var (number, series) in plot.Series.Index())
        {
            html.Raw("<polyline fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\" stroke-dasharray=\""u8).Text(Dashes[number % Dashes.Length])
                .Raw("\" points=\""u8);
            foreach (var (at, value) in series.Values.Index())
                html.Number(Left + ((at + 0.5) * step)).Raw(","u8).Number(y(value)).Raw(" "u8);
            html.Raw("\"/>"u8);
            double end = y(series.Values[^1]) + 4;
            while (ends.Exists(e => Math.Abs(e - end) < 14))
                end += 14;
            ends.Add(end);
            Label(html, Width - Right + 8 - (step / 2), end, series.Name, "start"u8);
            html.Raw("\n"u8);
        }
    }

    private static void Label(HtmlText html, double x, double y, string text, ReadOnlySpan<byte> anchor) =>
        html.Raw("<text x=\""u8).Number(x).Raw("\" y=\""u8).Number(y).Raw("\" text-anchor=\""u8).Raw(anchor).Raw("\">"u8).Text(text)
            .Raw("</text>"u8);

    private static string Words(Plot plot) => string.Join(' ', plot.Series.Select(s =>
        $"{s.Name}: {string.Join(", ", s.Values.Zip(plot.Labels, (v, l) => $"{l} {v}"))} {plot.Unit}."));
}
