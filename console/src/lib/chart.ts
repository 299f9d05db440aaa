// The parts of the chart library that the pages use, and the colours of a chart on the page as it is now.
import {
  BarController,
  BarElement,
  CategoryScale,
  Chart,
  Legend,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip
} from "chart.js";

Chart.register(BarController, BarElement, CategoryScale, Legend, LinearScale, LineController, LineElement);
Chart.register(PointElement, Tooltip);

export { Chart };

/** colours are those of grid and text, and the page's own by their names. */
export function colours() {
  const style = getComputedStyle(document.documentElement);
  const dark = document.documentElement.classList.contains("dark");
  return {
    dark,
    grid: dark ? "#374151" : "#e5e7eb",
    ink: dark ? "#9ca3af" : "#6b7280",
    named: (name: string) => style.getPropertyValue(name)
  };
}
