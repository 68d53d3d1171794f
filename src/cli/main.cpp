#include "cli/program.h"

int main(int argc, char** argv) {
  operculum::cli::prepare_process();
  operculum::cli::Session session;
  return operculum::cli::run_program(session, {argv + 1, argv + argc});
}
