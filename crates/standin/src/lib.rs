//! Small simulated calendar servers, with habits and faults as data
