using Microsoft.AspNetCore.Http.Metadata;

namespace Vembar.Station.Interface;

/// <summary>No larger request is read.</summary>
/// <param name="bytes">So many bytes.</param>
internal sealed class RequestSizeLimit(long bytes) : IRequestSizeLimitMetadata
{
    public long? MaxRequestBodySize => bytes;
}
