"""Which formats are read: a closed list for grids and one for shapes; every other driver of the libraries is
never loaded.

The libraries choose a driver by a file's content. Some drivers start programs, write, run pipelines or ask
servers: they are named here, by the libraries' own identifiers, so that they are never loaded (GDAL's own
setting ``GDAL_SKIP``), in this process and those that it starts.
"""

from __future__ import annotations

import logging
import os

GRIDS = (
    "GTiff", "AAIGrid", "EHdr", "ENVI", "HFA", "SRTMHGT", "USGSDEM", "DTED", "netCDF",
)  # fmt: skip
"""Drivers that open a grid."""
SHAPES = ("GPKG", "GeoJSON", "FlatGeobuf", "ESRI Shapefile", "CSV", "KML")
"""Drivers that open shapes and tables."""
WITHIN = ("MEM", "Memory", "VRT", "DERIVED")
"""Drivers that the libraries need for work in memory; ``VRT`` opens files only where one is asked for and was
checked.
"""
WRITES = ("COG",)
"""Drivers that write alone: they open nothing."""
LEFT_OUT = (
    "ACE2",
    "ADBC",
    "ADRG",
    "AIG",
    "AIVector",
    "AVCBin",
    "AVCE00",
    "AirSAR",
    "AmigoCloud",
    "BAG",
    "BIGGIF",
    "BLX",
    "BMP",
    "BSB",
    "BT",
    "BYN",
    "CALS",
    "CEOS",
    "COASP",
    "COSAR",
    "CPG",
    "CSW",
    "CTG",
    "CTable2",
    "Carto",
    "DAAS",
    "DGN",
    "DIMAP",
    "DIPEx",
    "DOQ1",
    "DOQ2",
    "DXF",
    "ECRGTOC",
    "EDIGEO",
    "EEDA",
    "EEDAI",
    "EIR",
    "ELAS",
    "ERS",
    "ESAT",
    "ESRIC",
    "ESRIJSON",
    "Elasticsearch",
    "FAST",
    "FIT",
    "GDALG",
    "GFF",
    "GIF",
    "GML",
    "GNMDatabase",
    "GNMFile",
    "GPSBabel",
    "GPX",
    "GRASSASCIIGrid",
    "GRIB",
    "GS7BG",
    "GSAG",
    "GSBG",
    "GSC",
    "GTFS",
    "GTI",
    "GTX",
    "GXF",
    "GenBin",
    "GeoJSONSeq",
    "GeoRSS",
    "HDF5",
    "HDF5Image",
    "HF2",
    "HTTP",
    "ILWIS",
    "IRIS",
    "ISCE",
    "ISG",
    "ISIS2",
    "ISIS3",
    "Idrisi",
    "JAXAPALSAR",
    "JDEM",
    "JML",
    "JP2OpenJPEG",
    "JPEG",
    "JSONFG",
    "KMLSUPEROVERLAY",
    "KRO",
    "L1B",
    "LAN",
    "LCP",
    "LIBKML",
    "LOSLAS",
    "LVBAG",
    "Leveller",
    "MAP",
    "MBTiles",
    "MFF",
    "MFF2",
    "MRF",
    "MSGN",
    "MVT",
    "MapInfo File",
    "MapML",
    "MiraMonVector",
    "NDF",
    "NGSGEOID",
    "NGW",
    "NITF",
    "NOAA_B",
    "NSIDCbin",
    "NTv2",
    "NWT_GRC",
    "NWT_GRD",
    "OAPIF",
    "ODS",
    "OGCAPI",
    "OGR_GMT",
    "OGR_PDS",
    "OGR_VRT",
    "OSM",
    "OZI",
    "OpenFileGDB",
    "PAux",
    "PCIDSK",
    "PCRaster",
    "PDF",
    "PDS",
    "PDS4",
    "PGDUMP",
    "PLMOSAIC",
    "PLSCENES",
    "PMTiles",
    "PNG",
    "PNM",
    "PRF",
    "R",
    "RIK",
    "RMF",
    "ROI_PAC",
    "RPFTOC",
    "RRASTER",
    "RS2",
    "RST",
    "Rasterlite",
    "S102",
    "S104",
    "S111",
    "S57",
    "SAFE",
    "SAGA",
    "SAR_CEOS",
    "SDTS",
    "SENTINEL2",
    "SGI",
    "SIGDEM",
    "SNAP_TIFF",
    "SNODAS",
    "SQLite",
    "SRP",
    "STACIT",
    "STACTA",
    "SXF",
    "Selafin",
    "TGA",
    "TIL",
    "TSX",
    "Terragen",
    "TopoJSON",
    "VDV",
    "VFK",
    "VICAR",
    "WAsP",
    "WCS",
    "WEBP",
    "WFS",
    "WMS",
    "WMTS",
    "XLSX",
    "XPM",
    "XYZ",
    "ZMap",
    "Zarr",
)
"""Drivers that are never loaded."""


def close_the_list() -> None:
    """Have the libraries leave out all drivers but ours, plug-ins and the network; before they are loaded."""
    os.environ["GDAL_SKIP"] = ",".join(LEFT_OUT)
    os.environ["GDAL_DRIVER_PATH"] = "disable"
    os.environ["GDAL_VRT_ENABLE_PYTHON"] = "NO"
    os.environ["GDAL_VRT_ENABLE_RAWRASTERBAND"] = "NO"
    os.environ["CPL_VSIL_CURL_ALLOWED_EXTENSIONS"] = ".none"
    os.environ["OGR_SQLITE_LOAD_EXTENSIONS"] = ""
    os.environ["PROJ_NETWORK"] = "OFF"
    os.environ.setdefault(
        "GDAL_CACHEMAX", "256"
    )  # megabytes: a row of tiles of a wide grid, and not a share of all memory
    os.environ["HDF5_PLUGIN_PRELOAD"] = "::"  # no filters from elsewhere
    logging.getLogger("rasterio").addHandler(
        logging.NullHandler()
    )  # or its remarks on drivers that it has not would go to standard error
    os.environ["CPL_LOG"] = (
        os.devnull
    )  # what the libraries have to say comes as errors, not on standard error
