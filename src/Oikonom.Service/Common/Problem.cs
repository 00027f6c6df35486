using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Sources;

namespace Oikonom.Service.Common;

/// <summary>A refusal that reaches the caller as problem details (RFC 9457): a stable code, and what to do.</summary>
public sealed class Problem(int status, string code, string title, string detail, params IReadOnlyList<(string Name, object Value)> members)
    : Exception(detail)
{
    public int Status { get; } = status;
    public string Code { get; } = code;
    public string Title { get; } = title;
    public IReadOnlyList<(string Name, object Value)> Members { get; } = members;

    public static Problem NotFound(string what, string mend) => new(404, "not-found", "Not found", $"There is no {what}. {mend}");

    public static Problem Invalid(string detail, string field = "") =>
        field.Length == 0 ? new(400, "invalid", "Not valid", detail) : new(400, "invalid", "Not valid", detail, ("field", field));

    public static Problem Conflict(string code, string detail, params IReadOnlyList<(string Name, object Value)> members) =>
        new(409, code, "Conflict", detail, members);
}

/// <summary>The one place where failures become problem details.</summary>
public sealed partial class ProblemWriter(RequestDelegate next, ILogger<ProblemWriter> log)
{
    public async Task InvokeAsync(HttpContext context)
    {
        try
        {
            await next(context);
            if (
                !context.Response.HasStarted
                && context.Response.StatusCode >= 400
                && context.Response.ContentType is null
                && context.Request.Path.StartsWithSegments("/api")
            )
                await WriteAsync(context, Plain(context.Response.StatusCode));
        }
        catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
        {
            context.Response.StatusCode = 499;
        }
        catch (Exception error) when (!context.Response.HasStarted)
        {
            await WriteAsync(context, Translate(error, context));
        }
    }

    private static Problem Plain(int status) =>
        status switch
        {
            401 => new(
                401,
                "sign-in-needed",
                "Sign-in needed",
                "Sign in first: by POST /api/v1/sign-in, or with a token in the header 'Authorization: Bearer …'."
            ),
            403 => new(403, "not-allowed", "Not allowed", "Your roles do not allow this."),
            404 => Problem.NotFound("such address", "The API is described at /openapi/v1.json."),
            405 => new(405, "method-not-allowed", "Method not allowed", "This address does not take that method."),
            415 => new(415, "json-needed", "JSON needed", "Send the body as application/json."),
            _ => new(status, "refused", "Refused", "The call cannot be answered."),
        };

    private Problem Translate(Exception error, HttpContext context)
    {
        switch (error)
        {
            case Problem problem:
                return problem;
            case RefusedMove { Code: "own-request" or "not-yours" } move:
                return new(403, move.Code, "Not your decision", move.Message);
            case RefusedMove move:
                return Problem.Conflict(move.Code, move.Message);
            case SourceFault fault:
                return new(
                    422,
                    "source-unreadable",
                    "The source cannot be read",
                    fault.Message,
                    ("line", fault.Line),
                    ("column", fault.Column)
                );
            case TargetFault fault:
                return new(502, "target-unavailable", "The target does not answer as it should", fault.Message);
            case PlanFault fault:
                return new(422, "cannot-plan", "No plan can be made", fault.Message);
            case BadHttpRequestException bad:
                return new(bad.StatusCode, bad.StatusCode == 413 ? "too-large" : "invalid", "Not valid", Describe(bad));
            default:
                LogFailure(log, context.TraceIdentifier, context.Request.Method, context.Request.Path, error);
                return new(
                    500,
                    "internal",
                    "Something went wrong here",
                    $"Nothing was changed. The log has the cause under the id {context.TraceIdentifier}.",
                    ("id", context.TraceIdentifier)
                );
        }
    }

    private static string Describe(BadHttpRequestException bad) =>
        bad.InnerException is System.Text.Json.JsonException json
            ? $"The body is not the JSON that is expected here: at {json.Path ?? "$"}, line {json.LineNumber + 1}, byte "
                + $"{json.BytePositionInLine + 1}."
            : bad.Message;

    private static Task WriteAsync(HttpContext context, Problem problem)
    {
        context.Response.Clear();
        context.Response.StatusCode = problem.Status;
        var body = new Dictionary<string, object?>
        {
            ["type"] = $"urn:oikonom:problem:{problem.Code}",
            ["title"] = problem.Title,
            ["status"] = problem.Status,
            ["detail"] = problem.Message,
            ["code"] = problem.Code,
        };
        foreach (var (name, value) in problem.Members)
            body[name] = value;
        return context.Response.WriteAsJsonAsync(body, (System.Text.Json.JsonSerializerOptions?)null, "application/problem+json");
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "{TraceId}: {Method} {Path} failed")]
    private static partial void LogFailure(ILogger log, string traceId, string method, string path, Exception error);
}
