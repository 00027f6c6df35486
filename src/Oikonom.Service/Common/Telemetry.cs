using System.Diagnostics;
using System.Diagnostics.Metrics;
using System.Globalization;

namespace Oikonom.Service.Common;

/// <summary>
/// What the service tells of its work to OpenTelemetry. All spans of one request share a trace, whose id is made of the request's, so
/// that it can be followed across plans, steps and nodes. No name and no value of anybody is in it.
/// </summary>
public static class Telemetry
{
    public const string Name = "Oikonom";
    private static readonly ActivitySource Source = new(Name);
    private static readonly Meter Meter = new(Name);
    private static readonly Histogram<double> StepTime = Meter.CreateHistogram<double>(
        "oikonom.step.duration",
        "s",
        "How long an attempt at a step took, by target and outcome."
    );

    /// <summary>A span of a request; null when nobody listens.</summary>
    public static Activity? Begin(string what, string request)
    {
        if (!Source.HasListeners() || !Guid.TryParse(request, out var id))
            return null;
        // The request's id, octet for octet; its last half stands for the whole of it, which has no span of its own.
        var octets = id.ToByteArray(bigEndian: true);
        var parent = new ActivityContext(
            ActivityTraceId.CreateFromBytes(octets),
            ActivitySpanId.CreateFromBytes(octets.AsSpan(8)),
            ActivityTraceFlags.Recorded,
            isRemote: true
        );
        return Source.StartActivity(what, ActivityKind.Internal, parent);
    }

    /// <summary>An attempt at a step came to an end.</summary>
    public static void Step(Activity? span, string target, string change, string outcome, TimeSpan took)
    {
        StepTime.Record(took.TotalSeconds, new("target", target), new("outcome", outcome));
        span?.SetTag("oikonom.target", target);
        span?.SetTag("oikonom.change", change);
        span?.SetTag("oikonom.outcome", outcome);
        if (outcome is "transient" or "lasting")
            span?.SetStatus(ActivityStatusCode.Error);
    }

    /// <summary>One line of a figure as Prometheus reads it.</summary>
    public static string Line(string name, double value, params IReadOnlyList<(string Name, string Value)> labels)
    {
        var inner = string.Join(',', labels.Select(l => $"{l.Name}=\"{Escaped(l.Value)}\""));
        return $"{name}{(inner.Length > 0 ? $"{{{inner}}}" : "")} {value.ToString(CultureInfo.InvariantCulture)}\n";
    }

    private static string Escaped(string value) =>
        value
            .Replace("\\", "\\\\", StringComparison.Ordinal)
            .Replace("\"", "\\\"", StringComparison.Ordinal)
            .Replace("\n", "\\n", StringComparison.Ordinal);
}
