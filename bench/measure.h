#pragma once

#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <functional>
#include <span>
#include <string_view>
#include <utility>

#include "base/units.h"
#include "process.h"

namespace operculum::bench {

inline constexpr int kRounds = 5;

/// Runs a piece of work and its baseline in turn, and compares them.
struct Measure {
  std::string program, folder;
  bool failed = false;

  std::string out() const { return folder + "/out"; }
  void fresh() const {
    std::filesystem::remove_all(out());
    std::filesystem::create_directory(out());
  }

  /// The baseline in a process of its own, so that both sides pay for a process.
  static double forked(const std::function<void()>& work) { return measured(work).seconds; }

  static double median(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    return values[values.size() / 2];
  }

  /// Alternates both sides and compares their medians.
  void compare(const std::string& what, double goal, const std::function<double()>& baseline,
               const std::vector<std::string>& words, std::uint64_t memory_goal = 0) {
    std::vector<double> base, ours;
    std::uint64_t memory = 0;
    for (int round = 0; round < kRounds; ++round) {
      fresh();
      base.push_back(baseline());
      fresh();
      Cost cost = run(words);
      if (cost.exit_code != 0) {
        fmt::print("{}: the program ended with exit code {}\n", what, cost.exit_code);
        failed = true;
        return;
      }
      ours.push_back(cost.seconds);
      memory = std::max(memory, cost.peak_memory);
    }
    double ratio = median(ours) / median(base);
    bool good = ratio <= goal && (memory_goal == 0 || memory <= memory_goal);
    failed |= !good;
    fmt::print("{:<58} {:7.3f} s {:7.3f} s  {:5.2f}x  (goal {:4.2f}x)  {:>10}  {}\n", what, median(base),
               median(ours), ratio, goal, human_size(memory), good ? "reached" : "MISSED");
    std::fflush(stdout);
  }

  /// A row of the benchmark, by the name that chooses it.
  using Row = std::pair<std::string_view, void (*)(Measure&)>;
  /// `only` names one of the rows; empty: all.
  void run_rows(std::span<const Row> rows, std::string_view only) {
    for (auto [name, run_it] : rows) {
      if (only.empty() || only == name) run_it(*this);
    }
  }

  /// Time and peak memory of work in a process of its own.
  static Cost measured(const std::function<void()>& work) {
    Cost cost;
    auto start = std::chrono::steady_clock::now();
    pid_t child = fork();
    if (child == 0) {
      try {
        work();
      } catch (const std::exception& error) {
        fmt::print("the work to be measured failed: {}\n", error.what());
        std::fflush(stdout);
        _exit(1);
      }
      _exit(0);
    }
    int status = 0;
    struct rusage usage {};
    wait4(child, &status, 0, &usage);
    cost.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) std::exit(1);  // what did not work is no measure
    cost.peak_memory = static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
    return cost;
  }
};

}  // namespace operculum::bench
