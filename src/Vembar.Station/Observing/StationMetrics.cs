using Prometheus;

namespace Vembar.Station.Observing;

/// <summary>What is counted and measured while a station runs.</summary>
internal static class StationMetrics
{
    /// <summary>Bytes of archives that were sent.</summary>
    public static readonly Counter BytesServed = Metrics.CreateCounter("station_archive_bytes", "Bytes of archives that were sent.");

    /// <summary>Who reads an archive now.</summary>
    public static readonly Gauge Readers = Metrics.CreateGauge("station_archive_readers", "Requests for archives that are being answered.");

    /// <summary>Machines by state.</summary>
    public static readonly Gauge Machines = Metrics.CreateGauge("station_machines", "Machines by their state.", "state");

    /// <summary>How long requests take.</summary>
    public static readonly Histogram Requests = Metrics.CreateHistogram("station_request_seconds", "How long requests took.",
        ["route", "status"], new HistogramConfiguration { Buckets = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 5, 30] });
}
