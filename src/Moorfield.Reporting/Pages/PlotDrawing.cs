namespace Moorfield.Reporting.Pages;

/// <summary>
/// Draws plots: lines and bars as SVG, with title and values in words for whoever does not see them; a matrix by the page's script.
/// </summary>
internal static class PlotDrawing
{
    private const int Width = 720, Height = 240, Left = 60, Right = 150, Top = 16, Bottom = 32;
    private const int BarsWidth = 420, BarsLeft = 150, BarsRight = 110, BarHeight = 13, PairHeight = 40;
    private const int MaxLabels = 12;
    private static readonly string[] Dashes = ["", "7 3", "2 3", "9 3 2 3"];

    internal static void Write(HtmlText html, Plot plot)
    {
        switch (plot)
        {
            case LinePlot lines:
                Write(html, lines);
                break;
            case BarPlot bars:
                Write(html, bars);
                break;
            case MatrixPlot matrix:
                Write(html, matrix);
                break;
        }
    }

    private static void Write(HtmlText html, LinePlot plot)
    {
        double most = Math.Max(1, plot.Series.SelectMany(s => s.Values).DefaultIfEmpty(0).Max());
        double Y(double value) => Height - Bottom - (value / most * (Height - Top - Bottom));
        Begin(html, plot.Title, Words(plot), Width, Height, "<figure>"u8);
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

    private static void Begin(HtmlText html, string title, string words, int width, int height, ReadOnlySpan<byte> figure) =>
        html.Raw(figure).Raw("<figcaption>"u8).Text(title).Raw("</figcaption>\n<svg role=\"img\" viewBox=\"0 0 "u8).Number(width).Raw(" "u8)
            .Number(height).Raw("\"><title>"u8).Text(title).Raw("</title><desc>"u8).Text(words).Raw("</desc>\n"u8);

    private static void Lines(HtmlText html, LinePlot plot, double step, Func<double, double> y)
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

    private static void Write(HtmlText html, BarPlot plot)
    {
        double most = plot.Pairs.Max(p => Math.Max(p.Before.Value, p.After.Value));
        double Length(double value) => most > 0 ? value / most * (BarsWidth - BarsLeft - BarsRight) : 0;
        Begin(html, plot.Title, string.Join(' ', plot.Pairs.Select(p => $"{p.Name}: before {p.Before.Text}, after {p.After.Text}.")),
            BarsWidth, plot.Pairs.Length * PairHeight, "<figure class=\"small\">"u8);
        foreach (var (number, pair) in plot.Pairs.Index())
        {
            double top = (number * PairHeight) + 4;
            Label(html, BarsLeft - 10, top + BarHeight + 4, pair.Name, "end"u8);
            Draw(top, pair.Before, "before "u8, "none"u8);
            Draw(top + BarHeight + 2, pair.After, "after "u8, "currentColor"u8);
            html.Raw("\n"u8);
        }
        html.Raw("</svg></figure>\n"u8);

        void Draw(double top, Bar bar, ReadOnlySpan<byte> which, ReadOnlySpan<byte> fill)
        {
            html.Raw("<rect stroke=\"currentColor\" fill=\""u8).Raw(fill).Raw("\" x=\""u8).Number(BarsLeft).Raw("\" y=\""u8).Number(top)
                .Raw("\" width=\""u8).Number(Length(bar.Value)).Raw("\" height=\""u8).Number(BarHeight).Raw("\"/><text x=\""u8)
                .Number(BarsLeft + Length(bar.Value) + 6).Raw("\" y=\""u8).Number(top + 11).Raw("\">"u8).Raw(which).Text(bar.Text)
                .Raw("</text>"u8);
        }
    }

    /// <summary>Four cells a byte, as the page's script reads them.</summary>
    private static void Write(HtmlText html, MatrixPlot plot)
    {
        byte[] packed = new byte[(plot.Cells.Length + 3) / 4];
        for (int i = 0; i < plot.Cells.Length; i++)
            packed[i / 4] |= (byte)(plot.Cells[i] << (i % 4 * 2));
        html.Raw("<figure class=\"matrix\"><figcaption>"u8).Text(plot.Title)
            .Raw("</figcaption>\n<noscript><p>The matrix is drawn by a script. The table below says the same.</p></noscript>\n"u8)
            .Raw("<script type=\"application/json\">"u8).Json(json =>
            {
                json.WriteStartObject();
                foreach (var (name, texts) in new[] { ("rows", plot.Rows), ("columns", plot.Columns), ("states", plot.States) })
                {
                    json.WriteStartArray(name);
                    foreach (string text in texts)
                        json.WriteStringValue(ConsoleOutput.Clean(text));
                    json.WriteEndArray();
                }
                json.WriteBase64String("cells", packed);
                json.WriteEndObject();
            }).Raw("</script></figure>\n"u8);
    }

    private static void Label(HtmlText html, double x, double y, string text, ReadOnlySpan<byte> anchor) =>
        html.Raw("<text x=\""u8).Number(x).Raw("\" y=\""u8).Number(y).Raw("\" text-anchor=\""u8).Raw(anchor).Raw("\">"u8).Text(text)
            .Raw("</text>"u8);

    private static string Words(LinePlot plot) => string.Join(' ', plot.Series.Select(s =>
        $"{s.Name}: {string.Join(", ", s.Values.Zip(plot.Labels, (v, l) => $"{l} {v}"))} {plot.Unit}."));
}
