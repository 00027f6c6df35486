using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <summary>What conditions of workflows may speak of beside the person.</summary>
public static class RequestNames
{
    /// <summary>The names of <see cref="Rulebook.RequestNames"/> that are not attributes of the person.</summary>
    public static readonly IReadOnlyList<KeyValuePair<string, ExpressionType>> All =
    [
        new("request.kind", ExpressionType.String),
        new("request.source", ExpressionType.String),
        new("request.requester", ExpressionType.String),
        new("request.byHand", ExpressionType.Bool),
        new("request.urgent", ExpressionType.Bool),
        new("request.privileged", ExpressionType.Bool),
        new("request.separation", ExpressionType.Bool),
        new("request.items", ExpressionType.Int),
        new("request.gives", ExpressionType.Bool),
    ];
}
