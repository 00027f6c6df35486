using Oikonom.Core.Planning;

namespace Oikonom.Service.Records;

/// <summary>The cause of a request as it is stored.</summary>
public sealed record Cause(string Text, string? Source, int? Line, IReadOnlyList<AttributeChange> Differences);
