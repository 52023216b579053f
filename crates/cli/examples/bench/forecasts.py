"""The baseline of forecasts: the common statistics package of Python on the same series.

Reads a series from standard input, a value a line, and the length of its season as the argument.
Fits every method to the first four fifths and again to all of it, as the product does, and prints
the seconds that took and the mean square of the errors one step ahead of smoothing with the season.
"""

import sys
import time
import warnings

import numpy
from statsmodels.tsa.holtwinters import ExponentialSmoothing

warnings.simplefilter("ignore")
season = int(sys.argv[1])
values = numpy.array([float(line) for line in sys.stdin])
held = len(values) // 5
began = time.perf_counter()
for part in (values[:-held], values):
    x = numpy.arange(len(part))
    for degree in (1, 2, 3):
        numpy.polyfit(x, part, degree)
    for damped in (False, True):
        for seasonal in ("add", "mul"):
            fitted = ExponentialSmoothing(part, trend="add", damped_trend=damped, seasonal=seasonal, seasonal_periods=season).fit()
            fitted.forecast(held)
took = time.perf_counter() - began
best = ExponentialSmoothing(values, trend="add", seasonal="add", seasonal_periods=season).fit()
print(took, float(numpy.mean(best.resid**2)))
